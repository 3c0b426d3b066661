import { Check, CircleDashed, X } from 'lucide-react'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import type { Schemas } from '../../api/client'
import { useHosts, useMakeTable, usePacking, usePlanTable, useReleases } from '../../api/hooks'
import { plural, size } from '../../lib/format'
import { usual } from '../../lib/usual'
import { Button } from '../../parts/Button'
import { Field, Input, Select, Tick } from '../../parts/Field'
import { Head } from '../../parts/Head'
import { To } from '../../parts/Links'
import { Empty, Loading, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { Status } from '../../parts/Status'
import { TableField } from '../../parts/TableField'
import { CodeChoice } from './CodeChoice'
import { rowsOf, type Row } from './rows'
import { useUsualHost } from './usualHost'

type Planned = Schemas['TableRowPlan']

/** A table of clients on the left, what each row would become on the right; cells are corrected there. */
export function MakeTable() {
  const hosts = useHosts().data ?? []
  const releases = useReleases().data ?? []
  const [choice, setChoice] = useState({ from: '', host: '', install: '', visible: false, hold: true, mail: false, mailAddresses: false, mend: false })
  const [rows, setRows] = useState<Row[] | null>(null)
  const from = choice.from || usual(releases)
  const usualHost = useUsualHost()
  const host = choice.host || usualHost
  const starter = from.split('@')[0] ?? ''
  const fields = usePacking(starter).data?.list.fields ?? []
  const wanted: Schemas['NewTable'] | null = rows && from && host ? {
    from: choice.install ? '' : from, host: choice.install ? '' : host, tenant_of: choice.install || undefined, visible: choice.visible, hold: choice.hold,
    mail: choice.mail, mail_addresses: choice.mailAddresses, mend: choice.mend, rows,
  } : null
  const plan = usePlanTable(wanted)
  const make = useMakeTable()
  const go = useNavigate()
  const pick = (part: Partial<typeof choice>) => setChoice((c) => ({ ...c, ...part }))
  const edit = (at: number, part: Partial<Row>) => setRows((all) => all!.map((r, i) => (i === at ? { ...r, ...part } : r)))
  const p = plan.data
  const sample = [['client', 'address', ...fields.filter((f) => !f.secret).map((f) => f.key)], ['alder-valley', '', ...fields.filter((f) => !f.secret).map((f) => f.example ?? '')]]
  return (
    <>
      <Head title="Make sites from a table" crumbs={[{ to: '/sites', label: 'Sites' }]}
        facts="A column “client”, and “address”, “name” and settings as further columns. Clients who are not there yet are added. Each row succeeds or fails by itself.">
        <Button primary disabled={!p || p.ready === 0 || plan.isFetching || make.isPending} onClick={() => void make.mutateAsync(wanted!).then((run) => go(`/runs/${run.id}`)).catch(() => {})}>
          Make {p ? plural(p.ready, 'site') : 'the sites'}
        </Button>
      </Head>
      <Trouble error={make.error} />
      <div className="grid lg:grid-cols-[minmax(0,320px)_minmax(0,1fr)] gap-6 items-start">
        <form className="grid gap-3" onSubmit={(e) => e.preventDefault()}>
          <TableField label="Table" need="client" sample={sample} onTable={(t) => setRows(t && rowsOf(t))} />
          <Field label="From release" name="from">{(id) => (
            <Select id={id} value={from} disabled={!!choice.install} onChange={(e) => pick({ from: e.target.value })}>
              {releases.filter((r) => r.kept).map((r) => <option key={r.ref} value={r.ref}>{r.ref} · {size(r.archive_bytes)}</option>)}
            </Select>
          )}</Field>
          <Field label="Host" name="host">{(id) => (
            <Select id={id} value={host} disabled={!!choice.install} onChange={(e) => pick({ host: e.target.value })}>{hosts.map((h) => <option key={h.name}>{h.name}</option>)}</Select>
          )}</Field>
          <CodeChoice value={choice.install} onPick={(install) => pick({ install })} />
          <fieldset className="grid gap-1.5">
            <legend className="font-bold mb-1">Who sees them</legend>
            <Tick checked={choice.hold} onChange={(e) => pick({ hold: e.target.checked })}>Keep visitors out until each is opened</Tick>
            <Tick checked={choice.visible} onChange={(e) => pick({ visible: e.target.checked })}>Let search engines in</Tick>
            {(!choice.visible || choice.hold) && <Tick checked={choice.mail} onChange={(e) => pick({ mail: e.target.checked })}>Let their mail go out, though they are previews</Tick>}
          </fieldset>
          <fieldset className="grid gap-1.5">
            <legend className="font-bold mb-1">What is changed besides</legend>
            <Tick checked={choice.mailAddresses} onChange={(e) => pick({ mailAddresses: e.target.checked })}>Change mail addresses at the old host too</Tick>
            <Tick checked={choice.mend} onChange={(e) => pick({ mend: e.target.checked })}>Mend serialised values that are broken in the source</Tick>
          </fieldset>
        </form>
        <Sheet title="Plan" aside={p && `${p.ready} would be made, ${p.there} ${p.there === 1 ? 'is' : 'are'} there, ${p.wrong} would fail · nothing has been touched`}>
          <div className="px-4"><Trouble error={plan.error} /></div>
          {!rows ? <Empty>Choose or paste a table to see what each row would become.</Empty>
            : !p ? !plan.error && <Loading /> : <Plans plans={p.rows} rows={rows} onEdit={edit} />}
          {p && p.wrong > 0 && <p className="px-4 py-3 text-soft border-t border-line-strong">Rows that are not ready fail; correct them here, or give the same table again later: sites that are there are passed over.</p>}
        </Sheet>
      </div>
    </>
  )
}

/** What each row would become, those with problems first, whose cells can be corrected. */
function Plans({ plans, rows, onEdit }: { plans: Planned[]; rows: Row[]; onEdit: (at: number, part: Partial<Row>) => void }) {
  const order = plans.map((p, at) => ({ p, at })).sort((a, b) => Number(b.p.problems.length > 0) - Number(a.p.problems.length > 0))
  return (
    <ul aria-label="Rows">
      {order.map(({ p, at }) => (
        <li key={at} className="px-4 py-2 border-t border-line grid gap-1.5">
          <p className="flex flex-wrap items-center gap-x-3 gap-y-1">
            {p.there ? <Status tone="plain" icon={CircleDashed}>there</Status> : p.ready ? <Status tone="good" icon={Check}>ready</Status> : <Status tone="wrong" icon={X}>not like this</Status>}
            {p.there ? <To to={`/sites/${p.site}`}>{p.site}</To> : <b>{p.site}</b>}
            <span>{p.client}{p.new_client && <span className="text-soft"> (added)</span>}</span>
            <span className="font-mono text-soft ml-auto break-all">{p.address.replace(/^https?:\/\//, '')}</span>
          </p>
          {p.problems.length > 0 && (
            <>
              <p className="text-clay break-words">{p.problems.join('; ')}</p>
              <Cells row={rows[at]!} onEdit={(part) => onEdit(at, part)} />
            </>
          )}
        </li>
      ))}
    </ul>
  )
}

function Cells({ row, onEdit }: { row: Row; onEdit: (part: Partial<Row>) => void }) {
  const cells: [string, string, (v: string) => Partial<Row>][] = [
    ['client', row.client, (v) => ({ client: v })], ['name', row.name ?? '', (v) => ({ name: v || undefined })], ['address', row.address ?? '', (v) => ({ address: v || undefined })],
    ...Object.entries(row.set ?? {}).map(([k, v]): [string, string, (v: string) => Partial<Row>] => [k, v, (next) => ({ set: { ...row.set, [k]: next } })]),
  ]
  return (
    <div className="grid grid-cols-[repeat(auto-fill,minmax(11rem,1fr))] gap-2">
      {cells.map(([name, value, part]) => (
        <label key={name} className="min-w-0"><span className="text-faint block">{name}</span>
          <Input key={value} className="h-[26px]! font-mono" defaultValue={value} onBlur={(e) => { if (e.target.value !== value) onEdit(part(e.target.value.trim())) }} /></label>
      ))}
    </div>
  )
}
