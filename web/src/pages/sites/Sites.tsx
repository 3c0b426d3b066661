import { useSites } from '../../api/hooks'
import { ButtonLink, Bytes, Empty, Head, Loading, Out, Rows, Sheet, To, Trouble } from '../../parts/parts'
import { day } from '../../parts/say'
import { Checks } from './Checks'

export function Sites() {
  const sites = useSites()
  const rows = sites.data ?? []
  return (
    <>
      <Head title="Sites" facts="What was made from releases, for clients."><ButtonLink primary to="/sites/new">Make a site</ButtonLink></Head>
      <Trouble error={sites.error} />
      <Sheet>
        {sites.isPending ? <Loading /> : rows.length === 0 ? <Empty>No sites yet.</Empty> : (
          <Rows caption="Sites" rows={rows} by={(s) => s.name} columns={[
            { head: 'Site', cell: (s) => <To to={`/sites/${s.name}`}>{s.name}</To> },
            { head: 'Title', grow: true, cell: (s) => s.title },
            { head: 'Address', cell: (s) => <Out href={s.address} /> },
            { head: 'Release', cell: (s) => <To to={`/releases/${s.release}`}>{s.release}</To> },
            { head: 'Checks', cell: (s) => <Checks report={s.report} /> },
            { head: 'Made', right: true, cell: (s) => day(s.made_at) },
            { head: 'Size', right: true, cell: (s) => <Bytes of={s.bytes} /> },
          ]} />
        )}
      </Sheet>
    </>
  )
}
