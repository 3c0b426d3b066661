import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useEffect, useMemo, useRef, useState, type KeyboardEvent } from 'react'
import type { ClientRow, Schemas } from '../../api/client'
import { useClients, useFields, useSetClient } from '../../api/hooks'
import { Ask, text } from '../../parts/Dialog'
import { Input, Select } from '../../parts/Field'
import { List, type ListColumn } from '../../parts/List'
import { To } from '../../parts/Links'
import { Empty, Shown, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { shownValue, ValueField } from './ValueField'

type FieldOf = Schemas['Field']

/** The settings of all clients that a starter asks for, as a table whose cells are edited in place. */
export function SettingsTable({ starter, find }: { starter: string; find: string }) {
  const fields = useFields(starter)
  const keys = fields.data?.map((f) => f.key) ?? []
  const clients = useClients({ find: find || undefined, keys }, fields.data !== undefined)
  const rows = useMemo(() => clients.data?.pages.flatMap((p) => p.clients) ?? [], [clients.data])
  const set = useSetClient()
  const columns: ListColumn<ClientRow>[] = [
    { id: 'client', head: t`Client`, fixed: true, cell: (c) => <To to={`/clients/${c.name}`}>{c.name}</To> },
    ...(fields.data ?? []).map((f): ListColumn<ClientRow> => ({
      id: f.key, head: f.required && !f.default ? `${f.label} *` : f.label,
      cell: (c) => <Cell key={`${c.name} ${f.key}`} client={c.name} field={f} setting={c.values?.[f.key]}
        onSave={(value) => set.mutateAsync({ name: c.name, settings: { [f.key]: value }, secret: f.secret ? [f.key] : undefined })} />,
    })),
  ]
  return (
    <Sheet>
      <div className="px-4"><Trouble error={set.error} /></div>
      <Shown of={fields}>{(all) => all.length === 0 ? <Empty><Trans>The starter asks for nothing of its own.</Trans></Empty> : (
        <Shown of={clients}>{() => rows.length === 0 ? <Empty>{find ? t`No client is like that.` : t`None yet.`}</Empty> : (
          <>
            <p className="px-4 py-2 text-soft"><Trans>A cell is changed by Enter or a click, and kept by Enter; Escape leaves it as it was. What has * has to be there before a site is made.</Trans></p>
            <List name={`asked by ${starter}`} caption={t`What ${starter} asks for, by client`} rows={rows} by={(c) => c.name} columns={columns}
              more={clients.hasNextPage && !clients.isFetchingNextPage ? () => void clients.fetchNextPage() : undefined} />
          </>
        )}</Shown>
      )}</Shown>
    </Sheet>
  )
}

type CellProps = { client: string; field: FieldOf; setting?: Schemas['Setting']; onSave: (value: string) => Promise<unknown> }

const inDialog = (f: FieldOf) => f.secret || f.type === 'long-text' || f.type === 'image' || f.type === 'file' || f.type === 'colour'

function Cell(props: CellProps) {
  const { client, field, setting } = props
  const [editing, setEditing] = useState(false)
  const [stays, setStays] = useState(false) // the cell has the focus again once it is kept
  const button = useRef<HTMLButtonElement>(null)
  useEffect(() => { if (stays && !editing) button.current?.focus() }, [stays, editing])
  if (inDialog(field)) return <ByDialog {...props} />
  if (editing) return <Edited {...props} onEnd={(focus) => { setStays(focus); setEditing(false) }} />
  return (
    <button ref={button} type="button" aria-label={t`${field.label} of ${client}: ${shown(field, setting)}`} onClick={() => setEditing(true)}
      className="block w-max min-w-24 max-w-72 truncate text-left rounded px-1 -mx-1 hover:bg-sheet hover:outline hover:outline-line-strong">
      <Value field={field} setting={setting} />
    </button>
  )
}

/** What a cell says: its value, the one that it has otherwise, or that it is still missing. */
const shown = (field: FieldOf, setting?: Schemas['Setting']) =>
  setting?.secret ? t`in the vault` : setting?.value ? shownValue(setting.value) : field.default || (field.required ? t`missing` : '–')

function Value({ field, setting }: { field: FieldOf; setting?: Schemas['Setting'] }) {
  const lacking = field.required && !field.default && !setting
  return <span className={lacking ? 'text-clay' : setting?.value ? undefined : 'text-soft'}>{shown(field, setting)}</span>
}

function ByDialog({ client, field, setting, onSave }: CellProps) {
  return (
    <span className="flex items-center gap-2">
      <span className="truncate max-w-48"><Value field={field} setting={setting} /></span>
      <Ask small button={setting ? t`Change` : t`Fill in`} of={t`${field.label} of ${client}`} title={t`${field.label} of ${client}`} action={t`Save`} about={field.secret ? t`It goes into the vault.` : undefined}
        onSubmit={(f) => onSave(text(f, 'value'))}>
        <ValueField client={client} field={field} defaultValue={setting?.secret ? '' : setting?.value} />
      </Ask>
    </span>
  )
}

/** The input in a cell. What does not fit the field is said and not sent. */
function Edited({ client, field, setting, onSave, onEnd }: CellProps & { onEnd: (focus: boolean) => void }) {
  const was = setting?.value ?? ''
  const [value, setValue] = useState(was)
  const [fault, setFault] = useState('')
  const over = useRef(false)
  const save = async (next: string, focus: boolean) => {
    if (over.current) return
    if (next === was) { over.current = true; return onEnd(focus) }
    if (next && field.pattern && !new RegExp(`^(?:${field.pattern})$`, 'u').test(next)) return setFault(field.example ? t`like ${field.example}` : t`it is not in the form that is asked for`)
    over.current = true
    try {
      await onSave(next)
      onEnd(focus)
    } catch (e) {
      over.current = false
      setFault((e as Error).message)
    }
  }
  const key = (e: KeyboardEvent) => {
    if (e.key === 'Enter') { e.preventDefault(); void save(value.trim(), true) }
    if (e.key === 'Escape') { e.stopPropagation(); over.current = true; onEnd(true) }
  }
  const label = t`${field.label} of ${client}`
  if (field.choices?.length) {
    return (
      <Select autoFocus aria-label={label} className="h-7! min-w-32" value={value} onKeyDown={key} onBlur={() => void save(value, false)} onChange={(e) => { setValue(e.target.value); void save(e.target.value, true) }}>
        <option value="">{field.default || t`not set`}</option>{field.choices.map((c) => <option key={c}>{c}</option>)}
      </Select>
    )
  }
  return (
    <span className="block min-w-40">
      <Input autoFocus aria-label={label} fault={fault !== ''} title={fault || undefined} className="h-7!" value={value} placeholder={field.example} onKeyDown={key}
        onBlur={() => void save(value.trim(), false)} onChange={(e) => { setFault(''); setValue(e.target.value) }} />
      {fault && <span role="alert" className="block text-clay">{fault}</span>}
    </span>
  )
}
