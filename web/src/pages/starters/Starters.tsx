import { useReleases, useStarters } from '../../api/hooks'
import { Import } from '../releases/Import'
import { Head } from '../../parts/Head'
import { To } from '../../parts/Links'
import { Rows } from '../../parts/Rows'
import { Empty, Loading, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { Bytes, SizeBar } from '../../parts/SizeBar'
import { day } from '../../lib/format'

export function Starters() {
  const starters = useStarters()
  const releases = useReleases().data ?? []
  const rows = starters.data ?? []
  const newest = (name: string) => releases.find((r) => r.starter === name)
  const most = Math.max(0, ...rows.map((t) => newest(t.name)?.archive_bytes ?? 0))
  return (
    <>
      <Head title="Starters" facts="Named lines of packages for reuse. Each build is a release, written name@number."><Import primary /></Head>
      <Trouble error={starters.error} />
      <Sheet>
        {starters.isPending ? <Loading /> : rows.length === 0 ? <Empty>No starters yet. Create one from the page of a source, or import a release.</Empty> : (
          <Rows caption="Starters" rows={rows} by={(t) => t.name} columns={[
            { head: 'Starter', cell: (t) => <To to={`/starters/${t.name}`}>{t.name}</To> },
            { head: 'Source', grow: true, cell: (t) => (t.source ? <To to={`/sources/${t.source}`}>{t.source}</To> : <span className="text-soft">imported</span>) },
            { head: 'Newest', cell: (t) => (t.newest ? <To to={`/releases/${t.name}@${t.newest}`}>{t.name}@{t.newest}</To> : 'none yet') },
            { head: '', cell: (t) => <SizeBar bytes={newest(t.name)?.archive_bytes ?? 0} most={most} /> },
            { head: 'Archive', right: true, cell: (t) => { const r = newest(t.name); return r ? <Bytes of={r.archive_bytes} /> : '' } },
            { head: 'Made', right: true, cell: (t) => { const r = newest(t.name); return r ? day(r.made) : '' } },
            { head: 'Releases', right: true, cell: (t) => t.releases },
          ]} />
        )}
      </Sheet>
    </>
  )
}
