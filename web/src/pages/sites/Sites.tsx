import { Archive, EyeOff } from 'lucide-react'
import { useState } from 'react'
import { useSites } from '../../api/hooks'
import { Button, ButtonLink, Bytes, Empty, Head, Loading, Out, Rows, Sheet, Status, To, Trouble } from '../../parts/basics'
import { onlyDay } from '../../parts/format'
import { Checks } from './Checks'

export function Sites() {
  const [retired, setRetired] = useState(false)
  const sites = useSites(retired)
  const rows = sites.data ?? []
  return (
    <>
      <Head title="Sites" facts="What was made from releases, for clients.">
        <Button onClick={() => setRetired(!retired)}>{retired ? 'Show those that stand' : 'Show the retired'}</Button>
        <ButtonLink to="/sites/table">From a table</ButtonLink>
        <ButtonLink primary to="/sites/new">Make a site</ButtonLink>
      </Head>
      <Trouble error={sites.error} />
      <Sheet>
        {sites.isPending ? <Loading /> : rows.length === 0 ? <Empty>{retired ? 'No site was retired.' : 'No sites yet.'}</Empty> : (
          <Rows caption="Sites" rows={rows} by={(s) => `${s.name} ${s.run_id}`} columns={[
            { head: 'Site', cell: (s) => <To to={`/sites/${s.name}`}>{s.name}</To> },
            { head: 'Title', grow: true, cell: (s) => s.title },
            { head: 'Address', cell: (s) => <Out href={s.address} /> },
            { head: 'Release', cell: (s) => <><To to={`/releases/${s.release}`}>{s.release}</To>{s.behind > 0 && !s.retired_at && <span className="text-soft">, {s.behind} behind</span>}</> },
            { head: 'Checks', cell: (s) => s.retired_at ? <Status tone="plain" icon={Archive}>retired {onlyDay(s.retired_at)}</Status> : <span className="inline-flex gap-3"><Checks report={s.report} />{s.held && <Status tone="look" icon={EyeOff}>held</Status>}</span> },
            { head: 'Size', right: true, cell: (s) => <Bytes of={s.bytes} /> },
          ]} />
        )}
      </Sheet>
    </>
  )
}
