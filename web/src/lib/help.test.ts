import { readFileSync } from 'node:fs'
import { expect, it } from 'vitest'
import { help } from './help'

const read = (file: string) => readFileSync(new URL(file, import.meta.url), 'utf8')

it('names sections that the guide has, and fields that the service takes', () => {
  const headings = [...read('../../../docs/guide.md').matchAll(/^#+ (.*)$/gm)].map((m) => m[1])
  const description = read('../api/schema.d.ts')
  for (const [schema, fields] of Object.entries(help)) {
    const at = description.indexOf(`        ${schema}: {`)
    expect(at, schema).toBeGreaterThan(0)
    const body = description.slice(at, description.indexOf('\n        };', at))
    for (const [field, says] of Object.entries(fields!)) {
      expect(headings).toContain(says.section)
      expect(body, `${schema}.${field}`).toMatch(new RegExp(`\\b${field}\\??:`))
      expect(says.text.endsWith('.'), says.text).toBe(true)
    }
  }
})
