// Writes what the service's description says of what it is sent: the limits of each field, by the schema that has it.
import { readFileSync } from 'node:fs'

const description = JSON.parse(readFileSync(process.argv[2], 'utf8'))
const sent = new Set()
for (const operations of Object.values(description.paths)) {
  for (const { requestBody } of Object.values(operations)) {
    for (const { schema } of Object.values(requestBody?.content ?? {})) if (schema?.$ref) sent.add(schema.$ref.split('/').at(-1))
  }
}
const kept = ['minLength', 'maxLength', 'pattern', 'minimum', 'maximum']
const out = {}
for (const name of [...sent].sort()) {
  const { properties = {}, required = [] } = description.components.schemas[name]
  const limits = {}
  for (const [field, of] of Object.entries(properties)) {
    const found = Object.fromEntries(kept.filter((k) => k in of).map((k) => [k, of[k]]))
    // What has to be sent may still be empty, unless its length or its form says otherwise.
    if (required.includes(field) && (found.minLength > 0 || found.pattern)) found.required = true
    if (Object.keys(found).length > 0) limits[field] = found
  }
  if (Object.keys(limits).length > 0) out[name] = limits
}
process.stdout.write(`// Written by make types, from the service's own description.
export type Limit = { required?: true; minLength?: number; maxLength?: number; pattern?: string; minimum?: number; maximum?: number }

export const limits = ${JSON.stringify(out, null, 2)} satisfies Record<string, Record<string, Limit>>
`)
