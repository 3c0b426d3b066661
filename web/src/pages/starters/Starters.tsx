import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
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
  const most = Math.max(0, ...rows.map((s) => newest(s.name)?.archive_bytes ?? 0))
  return (
    <>
      <Head title={t`Starters`} facts={t`Sources with their packing lists. Each build is a release, written name@number.`}><Import primary /></Head>
      <Trouble error={starters.error} />
      <Sheet>
        {starters.isPending ? <Loading /> : rows.length === 0 ? <Empty><Trans>No starters yet. Create one from the page of a source, or import a release.</Trans></Empty> : (
          <Rows caption={t`Starters`} rows={rows} by={(s) => s.name} columns={[
            { head: t`Starter`, cell: (s) => <To to={`/starters/${s.name}`}>{s.name}</To> },
            { head: t`Source`, grow: true, cell: (s) => (s.source ? <To to={`/sources/${s.source}`}>{s.source}</To> : <span className="text-soft"><Trans>imported</Trans></span>) },
            { head: t`Newest`, cell: (s) => (s.newest ? <To to={`/releases/${s.name}@${s.newest}`}>{s.name}@{s.newest}</To> : t`none yet`) },
            { head: '', wide: true, cell: (s) => <SizeBar bytes={newest(s.name)?.archive_bytes ?? 0} most={most} /> },
            { head: t`Archive`, right: true, cell: (s) => { const r = newest(s.name); return r ? <Bytes of={r.archive_bytes} /> : '' } },
            { head: t`Made`, wide: true, right: true, cell: (s) => { const r = newest(s.name); return r ? day(r.made) : '' } },
            { head: t`Releases`, right: true, cell: (s) => s.releases },
          ]} />
        )}
      </Sheet>
    </>
  )
}
