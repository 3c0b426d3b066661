import { t } from '@lingui/core/macro'
import type { Schemas } from '../../api/client'

export type NewField = { key: string; label: string; type: string; required: boolean; place: Pick<Schemas['SourceValue'], 'option' | 'path' | 'setting'> }

/** A place as people read it: loom_school › contact › email, setting WP_LANG. */
export const placeText = (p: NewField['place']) => (p.setting ? t`setting ${p.setting}` : [p.option, ...(p.path ?? [])].join(' › '))

/** A name for a field, from the last part of where it leads. */
export const keyFor = (p: NewField['place']) => (p.path?.at(-1) ?? p.option ?? p.setting ?? '').toLowerCase().replace(/[^a-z0-9]+/g, '_').replace(/^_+|_+$/g, '')

const quoted = (text: string) => JSON.stringify(text) // what JSON quotes, YAML reads (YAML 1.2, 1.3)

/** A field as a line of a packing list. */
export function fieldLine(f: NewField): string {
  const to = f.place.setting ? `setting: ${quoted(f.place.setting)}` : [`option: ${quoted(f.place.option ?? '')}`, ...(f.place.path?.length ? [`path: [${f.place.path.map(quoted).join(', ')}]`] : [])].join(', ')
  return `{key: ${quoted(f.key)}, label: ${quoted(f.label)}${f.type && f.type !== 'text' ? `, type: ${f.type}` : ''}${f.required ? ', required: true' : ''}, to: [{${to}}]}`
}

/** The text of a packing list with a field added behind those that it has; everything else stays as it is. */
export function withField(text: string, f: NewField): string {
  const lines = text.replace(/\n*$/, '').split('\n')
  const at = lines.findIndex((l) => /^fields:\s*(#.*|\[\s*\]\s*)?$/.test(l))
  if (at < 0) return `${lines.join('\n')}\nfields:\n  - ${fieldLine(f)}\n`
  lines[at] = lines[at]!.replace(/\[\s*\]/, '').trimEnd()
  let end = at + 1 // behind the last line of the fields: those that follow are indented, items, comments or empty
  for (let i = at + 1; i < lines.length && /^(\s|-|#|$)/.test(lines[i]!); i++) if (/^\s*[^\s#]/.test(lines[i]!)) end = i + 1
  const indent = /^(\s*)-/.exec(lines.slice(at + 1, end).find((l) => /^\s*-/.test(l)) ?? '  -')![1]!
  lines.splice(end, 0, `${indent}- ${fieldLine(f)}`)
  return `${lines.join('\n')}\n`
}
