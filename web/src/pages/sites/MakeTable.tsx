import { Check, CircleDashed, X } from 'lucide-react'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import type { Schemas } from '../../api/client'
import { useHosts, useMakeTable, usePlanTable, useReleases } from '../../api/hooks'
import { Button, Empty, Field, Head, Loading, Rows, Select, Sheet, Status, To, Trouble } from '../../parts/basics'
import { plural, size } from '../../parts/format'
import { usual } from '../../parts/usual'
import { CodeChoice } from './CodeChoice'
import { rowsOf, type Row } from './rows'

/** A table of clients on the left, what each row would become on the right. */
export function MakeTable() {
  const hosts = useHosts().data ?? []
  const releases = useReleases().data ?? []
  const [choice, setChoice] = useState({ from: '', host: '', install: '', visible: false, hold: true, mail: false, mailAddresses: false, mend: false })
  const [file, setFile] = useState<{ name: string; rows: Row[] } | null>(null)
  const [wrong, setWrong] = useState<Error | null>(null)
  const from = choice.from || usual(releases)
  const host = choice.host || hosts[0]?.name || ''
  const wanted: Schemas['NewTable'] | null = file && from && host ? { from: choice.install ? '' : from, host: choice.install ? '' : host, tenant_of: choice.install || undefined, visible: choice.visible, hold: choice.hold, mail: choice.mail, mail_addresses: choice.mailAddresses, mend: choice.mend, rows: file.rows } : null
  const plan = usePlanTable(wanted)
  const make = useMakeTable()
  const go = useNavigate()
  const pick = (part: Partial<typeof choice>) => setChoice((c) => ({ ...c, ...part }))
  const read = async (f?: File) => {
    setWrong(null)
    setFile(null)
    if (!f) return
    try {
      setFile({ name: f.name, rows: rowsOf(await f.text()) })
    } catch (e) {
      setWrong(e as Error)
    }
  }
  const p = plan.data
  return (
    <>
      <Head title="Make sites from a table" facts="A column client, and address, name and settings as further columns. Clients who are not there yet are added. Each row succeeds or fails by itself." />
      <div className="grid grid-cols-[minmax(0,320px)_minmax(0,1fr)] gap-6 items-start">
        <form className="grid gap-3" onSubmit={(e) => e.preventDefault()}>
          <Field label="Table" hint="comma-separated values; the first line names the columns">{(id, by) => <input id={id} aria-describedby={by} type="file" accept=".csv,text/csv" onChange={(e) => read(e.target.files?.[0])} className="block w-full text-ink" />}</Field>
          <Trouble error={wrong} />
          <Field label="From release">{(id) => <Select id={id} value={from} disabled={!!choice.install} onChange={(e) => pick({ from: e.target.value })}>{releases.filter((r) => r.kept).map((r) => <option key={r.ref} value={r.ref}>{r.ref} · {size(r.archive_bytes)}</option>)}</Select>}</Field>
          <Field label="Host">{(id) => <Select id={id} value={host} disabled={!!choice.install} onChange={(e) => pick({ host: e.target.value })}>{hosts.map((h) => <option key={h.name}>{h.name}</option>)}</Select>}</Field>
          <CodeChoice value={choice.install} onPick={(install) => pick({ install })} />
          <label className="flex gap-2 items-center"><input type="checkbox" checked={choice.hold} onChange={(e) => pick({ hold: e.target.checked })} />Keep visitors out until each is opened</label>
          <label className="flex gap-2 items-center"><input type="checkbox" checked={choice.mailAddresses} onChange={(e) => pick({ mailAddresses: e.target.checked })} />Change mail addresses at the old host too</label>
          <label className="flex gap-2 items-center"><input type="checkbox" checked={choice.mend} onChange={(e) => pick({ mend: e.target.checked })} />Mend serialised values that are broken in the source</label>
          <label className="flex gap-2 items-center"><input type="checkbox" checked={choice.visible} onChange={(e) => pick({ visible: e.target.checked })} />Let search engines in</label>
          {(!choice.visible || choice.hold) && <label className="flex gap-2 items-center"><input type="checkbox" checked={choice.mail} onChange={(e) => pick({ mail: e.target.checked })} />Let their mail go out, though they are previews</label>}
        </form>
        <Sheet title="Plan" aside={p && `${p.ready} would be made, ${p.there} ${p.there === 1 ? 'is' : 'are'} there, ${p.wrong} would fail · nothing has been touched`}>
          <Trouble error={plan.error} />
          {!file ? <Empty>Choose a table to see what each row would become.</Empty> : !p ? !plan.error && <div className="px-4"><Loading /></div> : (
            <>
              <Rows caption="Rows" rows={p.rows} by={(r) => r.site} columns={[
                { head: '', cell: (r) => r.there ? <Status tone="plain" icon={CircleDashed}>there</Status> : r.ready ? <Status tone="good" icon={Check}>ready</Status> : <Status tone="wrong" icon={X}>not like this</Status> },
                { head: 'Site', cell: (r) => r.there ? <To to={`/sites/${r.site}`}>{r.site}</To> : <b>{r.site}</b> },
                { head: 'Client', cell: (r) => <>{r.client}{r.new_client && <span className="text-soft"> (added)</span>}</> },
                { head: '', grow: true, cell: (r) => r.problems.length > 0 ? <span className="text-clay">{r.problems.join('; ')}</span> : <span className="font-mono">{r.address.replace(/^https?:\/\//, '')}</span> },
              ]} />
              <Trouble error={make.error} />
              <div className="px-4 py-3 flex items-center justify-between border-t border-line-strong">
                <p className="text-soft">{p.wrong > 0 ? 'Rows that are not ready fail; the same table again makes them when they are corrected.' : `From ${file.name}.`}</p>
                <Button primary disabled={p.ready === 0 || make.isPending} onClick={async () => go(`/runs/${(await make.mutateAsync(wanted!)).id}`)}>Make {plural(p.ready, 'site')}</Button>
              </div>
            </>
          )}
        </Sheet>
      </div>
    </>
  )
}
