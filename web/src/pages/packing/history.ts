/** The text of a packing list while it is edited: what it was before each step, so that any can be taken back. */
export type Edited = { text: string; before: string[] }

const mostSteps = 100

/** A step further; the same text again is none. */
export function step(e: Edited, text: string): Edited {
  return text === e.text ? e : { text, before: [...e.before, e.text].slice(-mostSteps) }
}

/** A step back. */
export function back(e: Edited): Edited {
  const text = e.before.at(-1)
  return text === undefined ? e : { text, before: e.before.slice(0, -1) }
}
