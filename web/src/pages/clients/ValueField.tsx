import { t } from '@lingui/core/macro'
import { useState } from 'react'
import { addressOf, type Schemas } from '../../api/client'
import { useAddClientFile } from '../../api/hooks'
import { base64 } from '../../lib/files'
import { Field, FileBox, Input, Select, SelectField, Textarea, TextField } from '../../parts/Field'

type FieldOf = Schemas['Field']

/** A value as people read it: of a file, its name. */
export const shownValue = (value: string) => /^file:[0-9a-f]{64}\/(.*)$/.exec(value)?.[1] ?? value

/** A picture that a client has, small. */
export function Picture({ client, value, alt }: { client: string; value: string; alt: string }) {
  const sha256 = /^file:([0-9a-f]{64})\//.exec(value)?.[1]
  if (!sha256) return null
  return <img src={addressOf('/clients/{name}/files/{sha256}', { path: { name: client, sha256 } })} alt={alt} loading="lazy" className="max-h-24 max-w-full border border-line rounded" />
}

export const isFile = (field: Pick<FieldOf, 'type'>) => field.type === 'image' || field.type === 'file'
export const pictures = '.png,.jpg,.jpeg,.gif,.webp'

type FileInputProps = { id: string; by?: string; client: string; field: FieldOf; value: string; placeholder?: string; onValue: (value: string) => void }

/** Chooses a picture or a document, and gives it to the client at once. */
function FileInput({ id, by, client, field, value, placeholder, onValue }: FileInputProps) {
  const add = useAddClientFile()
  const [seen, setSeen] = useState('')
  const [error, setError] = useState<Error | null>(null)
  const choose = async (file?: File) => {
    if (!file) return
    setSeen('')
    setError(null)
    try {
      const content = await base64(file)
      const given = await add.mutateAsync({ client, name: file.name, content })
      if (given.width) setSeen(`data:${given.type};base64,${content}`)
      onValue(given.value)
    } catch (e) {
      setError(e as Error)
    }
  }
  const note = add.isPending ? t`sending it` : error?.message ?? (value ? shownValue(value) : placeholder)
  return (
    <>
      <FileBox id={id} aria-describedby={by} accept={field.type === 'image' ? pictures : undefined} disabled={!client}
        onChange={(e) => void choose(e.target.files?.[0])} />
      <p role="status" className={error ? 'text-clay mt-1' : 'text-soft mt-1 font-mono'}>{client ? note : t`choose the client first`}</p>
      {!seen && field.type === 'image' && <Picture client={client} value={value} alt={t`${field.label}, as it is`} />}
      {seen && <img src={seen} alt={t`${field.label}, as it was chosen`} className="mt-1 max-h-24 max-w-full border border-line rounded" />}
    </>
  )
}

type ValueInputProps = FileInputProps & { fault?: boolean }

/** The input for the value of a field by its type, inside a Field. */
export function ValueInput({ id, by, client, field, value, placeholder, fault, onValue }: ValueInputProps) {
  if (isFile(field)) return <FileInput id={id} by={by} client={client} field={field} value={value} placeholder={placeholder} onValue={onValue} />
  if (field.choices?.length) {
    return (
      <Select id={id} aria-describedby={by} value={value} onChange={(e) => onValue(e.target.value)}>
        <option value="">{placeholder || t`not set`}</option>{field.choices.map((c) => <option key={c}>{c}</option>)}
      </Select>
    )
  }
  if (field.type === 'long-text') {
    return <Textarea id={id} aria-describedby={by} fault={fault} rows={3} value={value} placeholder={placeholder || t`not set`} onChange={(e) => onValue(e.target.value)} />
  }
  const input = (
    <Input id={id} aria-describedby={by} fault={fault} type={field.secret ? 'password' : 'text'} autoComplete="off" value={value} placeholder={placeholder || t`not set`}
      onChange={(e) => onValue(e.target.value)} />
  )
  if (field.type !== 'colour') return input
  return (
    <div className="flex gap-2">
      {input}
      <input type="color" aria-label={t`${field.label}: choose a colour`} className="h-8 w-11 shrink-0 rounded border border-line-strong/60 bg-sheet"
        value={/^#[0-9a-f]{6}$/i.test(value || placeholder || '') ? value || placeholder : '#808080'} onChange={(e) => onValue(e.target.value)} />
    </div>
  )
}

/** The input for a field in a dialog: its value is the form's “value”. */
export function ValueField({ client, field, defaultValue }: { client: string; field: FieldOf; defaultValue?: string }) {
  const [value, setValue] = useState(defaultValue ?? '')
  if (field.choices?.length) return <SelectField label={field.label} name="value" defaultValue={defaultValue} choices={field.choices.map((c) => ({ value: c }))} />
  if (isFile(field) || field.type === 'colour') {
    return (
      <Field label={field.label} name="value">
        {(id, by, fault) => (
          <>
            <ValueInput id={id} by={by} fault={fault} client={client} field={field} value={value} onValue={setValue} />
            <input type="hidden" name="value" value={value} />
          </>
        )}
      </Field>
    )
  }
  if (field.type === 'long-text') {
    return <Field label={field.label} name="value">{(id, by, fault) => <Textarea id={id} name="value" rows={5} aria-describedby={by} fault={fault} defaultValue={defaultValue} />}</Field>
  }
  return (
    <TextField label={field.label} name="value" required pattern={field.pattern || undefined} hint={field.example && t`like ${field.example}`} defaultValue={defaultValue}
      type={field.secret ? 'password' : field.type === 'email' ? 'email' : 'text'} autoComplete="off" data-secret={field.secret || undefined} />
  )
}
