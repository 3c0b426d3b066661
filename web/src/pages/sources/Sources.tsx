import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useSources } from '../../api/hooks'
import { count } from '../../lib/format'
import { Head } from '../../parts/Head'
import { List } from '../../parts/List'
import { Out, To } from '../../parts/Links'
import { Empty, Shown } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { Bytes, SizeBar } from '../../parts/SizeBar'
import { When } from '../../parts/When'
import { AddSource } from './AddSource'

export function Sources() {
  const sources = useSources()
  return (
    <>
      <Head title={t`Sources`} facts={t`Configured sites that starters are built from. They are only read, never written to.`}><AddSource primary /></Head>
      <Sheet>
        <Shown of={sources}>{(rows) => {
          const total = (s: (typeof rows)[number]) => (s.survey ? s.survey.totals.bytes + s.survey.totals.database_bytes : 0)
          const most = Math.max(0, ...rows.map(total))
          return rows.length === 0 ? <Empty><Trans>None yet. A source is a site that is there and configured; add its host first, then the site.</Trans></Empty> : (
            <List name="sources" caption={t`Sources`} rows={rows} by={(s) => s.name} columns={[
              { id: 'source', head: t`Source`, fixed: true, cell: (s) => <To to={`/sources/${s.name}`}>{s.name}</To> },
              { id: 'kind', head: t`Kind`, cell: (s) => `${s.survey?.kind_title ?? s.kind} ${s.version}` },
              { id: 'address', head: t`Address`, grow: true, cell: (s) => <Out href={s.address} /> },
              { id: 'host', head: t`Host`, wide: true, cell: (s) => <To to={`/hosts/${s.host}`}>{s.host}</To> },
              { id: 'bar', head: '', wide: true, cell: (s) => <SizeBar bytes={total(s)} most={most} /> },
              { id: 'size', head: t`Size`, right: true, cell: (s) => (s.survey ? <Bytes of={total(s)} /> : t`not surveyed`) },
              { id: 'files', head: t`Files`, wide: true, right: true, cell: (s) => (s.survey ? count(s.survey.totals.files) : '') },
              { id: 'findings', head: t`Findings`, right: true, cell: (s) => s.survey?.findings.length ?? '' },
              { id: 'surveyed', head: t`Surveyed`, wide: true, cell: (s) => s.survey && <When at={s.survey.taken_at} /> },
            ]} />
          )
        }}</Shown>
      </Sheet>
    </>
  )
}
