// Writes which fields of the service's answers are sentences for people, by their names: those whose format its description says is that.
import { readFileSync } from 'node:fs'

const description = JSON.parse(readFileSync(process.argv[2], 'utf8'))
const names = new Set()
for (const { properties = {} } of Object.values(description.components.schemas)) {
  for (const [name, of] of Object.entries(properties)) if ([of, of.items].some((s) => s?.format === 'sentence')) names.add(name)
}
process.stdout.write(`// Written by make types, from the service's own description: the names of fields that are sentences for people.
export const sentences: ReadonlySet<string> = new Set(${JSON.stringify([...names].sort(), null, 2)})
`)
