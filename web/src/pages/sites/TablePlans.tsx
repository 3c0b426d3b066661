import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { Check, CircleDashed, X } from 'lucide-react'
import type { Schemas } from '../../api/client'
import { FileBox, Input } from '../../parts/Field'
import { To } from '../../parts/Links'
import { Status } from '../../parts/Status'
import { isFile, pictures } from '../clients/ValueField'
import type { Row } from './rows'

type Planned = Schemas['TableRowPlan']

type PlansProps = {
  plans: Planned[]
  rows: Row[]
  fields: Schemas['Field'][]
  onEdit: (at: number, part: Partial<Row>) => void
  onChoose: (at: number, field: string, file?: File) => void
}

/** What each row would become, those with problems first, whose cells can be corrected. */
export function TablePlans({ plans, rows, fields, onEdit, onChoose }: PlansProps) {
  const order = plans.map((p, at) => ({ p, at })).sort((a, b) => Number(b.p.problems.length > 0) - Number(a.p.problems.length > 0))
  return (
    <ul aria-label={t`Rows`}>
      {order.map(({ p, at }) => (
        <li key={at} className="px-4 py-2 border-t border-line grid gap-1.5">
          <p className="flex flex-wrap items-center gap-x-3 gap-y-1">
            {p.there ? <Status tone="plain" icon={CircleDashed}><Trans>there</Trans></Status> : p.ready ? <Status tone="good" icon={Check}><Trans>ready</Trans></Status> : <Status tone="wrong" icon={X}><Trans>not like this</Trans></Status>}
            {p.there ? <To to={`/sites/${p.site}`}>{p.site}</To> : <b>{p.site}</b>}
            <span>{p.client}{p.new_client && <span className="text-soft"><Trans> (added)</Trans></span>}</span>
            <span className="font-mono text-soft ml-auto break-all">{p.address.replace(/^https?:\/\//, '')}</span>
          </p>
          {p.problems.length > 0 && (
            <>
              <p className="text-clay break-words">{p.problems.join('; ')}</p>
              <Cells row={rows[at]!} fields={fields} onEdit={(part) => onEdit(at, part)} onChoose={(field, file) => onChoose(at, field, file)} />
            </>
          )}
        </li>
      ))}
    </ul>
  )
}

type CellsProps = { row: Row; fields: Schemas['Field'][]; onEdit: (part: Partial<Row>) => void; onChoose: (field: string, file?: File) => void }

/** The cells of a row, with those that it may lack; of a picture or a document, a file is chosen. */
function Cells({ row, fields, onEdit, onChoose }: CellsProps) {
  const set = row.set ?? {}
  const files = fields.filter((f) => isFile(f) && (f.required || f.key in set))
  const lacking = fields.filter((f) => f.required && !f.secret && !isFile(f) && !(f.key in set)).map((f) => f.key)
  const cells: [string, string, (v: string) => Partial<Row>][] = [
    ['client', row.client, (v) => ({ client: v })], ['name', row.name ?? '', (v) => ({ name: v || undefined })], ['address', row.address ?? '', (v) => ({ address: v || undefined })],
    ...[...Object.keys(set), ...lacking].filter((k) => !files.some((f) => f.key === k))
      .map((k): [string, string, (v: string) => Partial<Row>] => [k, set[k] ?? '', (next) => ({ set: { ...set, [k]: next } })]),
  ]
  return (
    <div className="grid grid-cols-[repeat(auto-fill,minmax(11rem,1fr))] gap-2">
      {cells.map(([name, value, part]) => (
        <label key={name} className="min-w-0"><span className="text-faint block">{name}</span>
          <Input key={value} className="h-[26px]! font-mono" defaultValue={value} onBlur={(e) => { if (e.target.value !== value) onEdit(part(e.target.value.trim())) }} /></label>
      ))}
      {files.map((f) => (
        <label key={f.key} className="min-w-0"><span className="text-faint block truncate">{f.key}{set[f.key] && <span className="font-mono"> {set[f.key]}</span>}</span>
          <FileBox accept={f.type === 'image' ? pictures : undefined} onChange={(e) => onChoose(f.key, e.target.files?.[0])} /></label>
      ))}
    </div>
  )
}
