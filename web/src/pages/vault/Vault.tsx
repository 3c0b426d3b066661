import { useAudit, useVault } from '../../api/hooks'
import { Empty, Head, Loading, Rows, Sheet, Trouble } from '../../parts/basics'
import { day } from '../../parts/format'
import { Reveal } from './Reveal'

export function Vault() {
  const vault = useVault()
  const audit = useAudit()
  return (
    <>
      <Head title="Vault" facts="Secrets are kept sealed, each tied to what it belongs to." />
      <Trouble error={vault.error} />
      <div className="grid grid-cols-[minmax(0,3fr)_minmax(0,2fr)] gap-4 items-start">
        <Sheet title="Secrets">
          {vault.isPending ? <Loading /> : (vault.data ?? []).length === 0 ? <Empty>None yet.</Empty> : (
            <Rows caption="Secrets" rows={vault.data ?? []} by={(s) => `${s.noun}/${s.owner}/${s.name}`} columns={[
              { head: 'Of', cell: (s) => s.noun },
              { head: 'Name', cell: (s) => s.owner },
              { head: 'Secret', cell: (s) => s.name },
              { head: '', grow: true, cell: (s) => <Reveal noun={s.noun} owner={s.owner} name={s.name} /> },
              { head: 'Kept since', right: true, cell: (s) => day(s.created_at) },
            ]} />
          )}
        </Sheet>
        <Sheet title="Who did what">
          {(audit.data ?? []).length === 0 ? <Empty>Nothing yet.</Empty> : (
            <ul className="px-4 pb-3">{audit.data!.map((a, i) => <li key={i} className="flex gap-3 py-0.5"><span className="text-faint font-mono whitespace-nowrap">{day(a.at)}</span><b>{a.who}</b><span>{a.what}</span></li>)}</ul>
          )}
        </Sheet>
      </div>
    </>
  )
}
