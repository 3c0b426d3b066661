// Written by make types, from the service's own description: the names of fields that are sentences for people.
export const sentences: ReadonlySet<string> = new Set([
  "about",
  "accounts",
  "adjustments",
  "advice",
  "detail",
  "error",
  "evidence",
  "how",
  "notes",
  "problem",
  "problems",
  "remedy",
  "sentence",
  "sentences",
  "step",
  "summary",
  "to_do",
  "trouble",
  "unreached",
  "why"
])
