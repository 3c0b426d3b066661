import { t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { useParams } from 'react-router'
import { ended, useComparison, useRelease, useRun } from '../../api/hooks'
import { Head } from '../../parts/Head'
import { Rows } from '../../parts/Rows'
import { Empty, Loading, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { Bytes } from '../../parts/SizeBar'
import { count, day } from '../../lib/format'
import { progressSentence } from '../../lib/progress'
import { Meter } from '../../parts/WorkStrip'
import { Delta, signed } from './Delta'
import { DifferingFiles } from './DifferingFiles'

/** How one release differs from another, or from its source: causes first, then areas, files, tables, settings. */
export function ComparisonPage() {
  const id = Number(useParams().id)
  const run = useRun(id)
  const r = run.data
  const comparison = useComparison(id, r?.status === 'done')
  const ofSource = comparison.data?.to.startsWith('source ') ?? true
  const after = useRelease(comparison.data?.to ?? '', !ofSource).data
  if (run.isPending) return <Loading />
  if (!r) return <Trouble error={run.error} />
  if (r.status !== 'done') {
    return (
      <>
        <Head title={r.title} crumbs={[{ to: '/runs', label: t`Runs` }]} facts={<span><Trans>run {r.id} by {r.who}</Trans></span>} />
        {ended(r) ? <p role="alert" className="text-clay bg-clay-wash rounded px-3 py-2">{r.error}</p> : <Sheet className="p-4"><Meter run={r} /><p className="mt-2" role="status">{progressSentence(r)}</p></Sheet>}
      </>
    )
  }
  const c = comparison.data
  if (!c) return comparison.error ? <Trouble error={comparison.error} /> : <Loading />
  const starter = c.from.split('@')[0]!
  const most = Math.max(1, ...c.areas.map((a) => Math.abs(a.packed)))
  return (
    <>
      <Head title={<>{c.from} <span className="text-faint font-normal"><Trans>and</Trans></span> {c.to}</>} crumbs={[{ to: '/starters', label: t`Starters` }, { to: `/starters/${starter}`, label: starter }]}
        facts={<><span><Trans>compared {day(r.created_at)} by {r.who}</Trans></span><span><Trans><b><Plural value={c.added.files} one="# file" other="# files" /></b> added</Trans></span><span><Trans><b>{count(c.removed.files)}</b> removed</Trans></span><span><Trans><b>{count(c.changed.files)}</b> changed</Trans></span><span><Trans><b><Plural value={c.tables.length} one="# table" other="# tables" /></b> differ</Trans></span></>} />
      <Sheet className="p-4 grid grid-cols-[auto_1fr] gap-8 items-center mb-4">
        <div>
          <p className="text-[1.35rem] font-bold whitespace-nowrap font-mono">{signed(c.after - c.before)}</p>
          <p className="text-soft whitespace-nowrap"><Bytes of={c.before} /> → <Bytes of={c.after} /></p>
        </div>
        {c.causes.length === 0 ? <p>{c.summary}.</p> : (
          <ol className="grid gap-1.5" aria-label={t`Main causes`}>{c.causes.map((x, i) => (
            <li key={x.path} className="grid grid-cols-[1.2rem_9rem_1fr] items-center gap-2"><span className="text-faint font-mono">{i + 1}</span><Delta of={x.packed} most={Math.abs(c.causes[0]!.packed)} /><span className="break-words min-w-0">{x.sentence}</span></li>
          ))}</ol>
        )}
      </Sheet>
      <div className="grid lg:grid-cols-[minmax(0,2fr)_minmax(0,3fr)] gap-4 items-start">
        <div className="grid gap-4">
          <Sheet title={t`By area`} aside={t`in the archive`}>
            <Rows caption={t`Differences by area`} rows={c.areas} by={(a) => a.area} columns={[
              { head: t`Area`, grow: true, cell: (a) => a.area },
              { head: '', cell: (a) => <Delta of={a.packed} most={most} area={a.area} /> },
              { head: t`Archive`, right: true, cell: (a) => signed(a.packed) },
              { head: t`Content`, right: true, cell: (a) => signed(a.bytes) },
            ]} />
          </Sheet>
          <Sheet title={t`Tables`} aside={t`rows by primary key`}>
            {c.tables.length === 0 ? <Empty><Trans>All tables hold the same rows.</Trans></Empty> : <Rows caption={t`Tables that differ`} rows={c.tables} by={(table) => table.table} columns={[
              { head: t`Table`, grow: true, cell: (table) => <span className="font-mono" title={table.note}>{table.table}</span> },
              { head: t`Added`, right: true, cell: (table) => count(table.added) },
              { head: t`Removed`, right: true, cell: (table) => count(table.removed) },
              { head: t`Changed`, right: true, cell: (table) => count(table.changed) },
              { head: t`SQL`, right: true, cell: (table) => signed(table.bytes) },
            ]} />}
          </Sheet>
          <Sheet title={t`Settings and options`} aside={c.more_values > 0 ? t`and ${count(c.more_values)} more` : undefined}>
            {c.values.length === 0 ? <Empty><Trans>All are the same.</Trans></Empty> : (
              <ul>{c.values.map((v) => (
                <li key={v.where} className="px-4 py-1.5 border-t border-line"><span className="font-mono break-all">{v.where}</span>
                  <div className="grid grid-cols-2 gap-px mt-1 bg-line border border-line rounded overflow-hidden">
                    <Value text={v.before} look="bg-clay-wash" /><Value text={v.after} look="bg-leaf-wash" />
                  </div></li>
              ))}</ul>
            )}
          </Sheet>
        </div>
        <DifferingFiles files={c.files} more={c.more} same={after ? after.areas.reduce((n, a) => n + a.files, 0) - c.added.files - c.changed.files : undefined}
          between={ofSource ? undefined : { from: c.from, to: c.to }} />
      </div>
    </>
  )
}

/** A value as it was or is. */
function Value({ text, look }: { text: string; look: string }) {
  return <span className={`px-2 py-1 break-words whitespace-pre-line min-w-0 ${text ? look : 'bg-sheet text-faint'}`}>{text || t`nothing`}</span>
}
