import { AlertTriangle, Check, X } from 'lucide-react'
import { useNavigate, useParams } from 'react-router'
import type { Run } from '../../api/client'
import { ended, useCancel, useLog, useRetry, useRun } from '../../api/hooks'
import { Button, ButtonLink, Empty, Head, Loading, Out, Rows, RunStatus, Sheet, SizeBar, Status, To, Trouble } from '../../parts/basics'
import { count, day, millis, size, took } from '../../parts/format'
import { progressSentence } from '../../parts/progress'
import { Meter } from '../../parts/WorkStrip'

/** The jobs that can be started again as they were. */
const repeatable: Run['job'][] = ['survey', 'build', 'verify', 'compare', 'check', 'copy', 'screenshots', 'provision']

export function RunPage() {
  const id = Number(useParams().id)
  const run = useRun(id)
  const cancel = useCancel()
  const retry = useRetry()
  const go = useNavigate()
  const r = run.data
  const log = useLog(id, r && [r.status, r.progress.steps?.length])
  if (run.isPending) return <Loading />
  if (!r) return <Trouble error={run.error} />
  const p = r.progress
  const steps = p.steps ?? []
  const longest = Math.max(1, ...steps.map((s) => s.ms))
  return (
    <>
      <Head title={r.title} beside={<RunStatus status={r.status} />} facts={<><span>run {r.id}</span><span>by {r.who}</span><span>{day(r.created_at)}</span>{r.ended_at && <span>took <b>{took(r.started_at, r.ended_at)}</b></span>}</>}>
        {!ended(r) && !r.committed && <Button disabled={cancel.isPending} onClick={() => cancel.mutate(id)}>{r.status === 'cleanup-failed' ? 'Give up' : 'Cancel'}</Button>}
        {(r.status === 'failed' || r.status === 'cancelled') && repeatable.includes(r.job) && <Button disabled={retry.isPending} onClick={async () => go(`/runs/${(await retry.mutateAsync({ id })).id}`)}>Try again</Button>}
        <Outcome run={r} />
      </Head>
      <Trouble error={cancel.error ?? retry.error} />
      {r.error && <p role="alert" className="text-clay bg-clay-wash rounded px-3 py-2 mb-4">{r.error}</p>}
      {!ended(r) && <Sheet className="p-4 mb-4">{r.status !== 'cleanup-failed' && <Meter run={r} />}<p className="mt-2" role="status">{progressSentence(r)}</p><p className="text-faint mt-1">Leaving this page changes nothing.{r.committed && ' It is past the point where it can be cancelled.'}</p></Sheet>}
      {r.job === 'table' && <TableReport run={r} />}
      <div className="grid grid-cols-2 gap-4 items-start">
        <Sheet title="Steps" aside={`${count(p.done?.files ?? 0)} files, ${count(p.done?.rows ?? 0)} rows, ${size(p.done?.bytes ?? 0)}`}>
          {steps.length === 0 ? <Empty>{ended(r) ? 'It ended before its first step.' : 'It has not begun yet.'}</Empty> : (
            <ol>{steps.map((s, i) => (
              <li key={s.name + i} className="flex items-center gap-3 h-[28px] px-4 border-t border-line"><span className="text-faint font-mono w-5">{i + 1}</span><span className="flex-1">{s.name}</span>
                <SizeBar bytes={s.ms} most={longest} /><span className="font-mono w-16 text-right">{s.ms ? millis(s.ms) : '…'}</span></li>
            ))}</ol>
          )}
        </Sheet>
        <Sheet title="Log">
          {(log.data ?? []).length === 0 ? <Empty>Nothing out of the ordinary.</Empty> : (
            <ul className="px-4 pb-3">{log.data!.map((l) => <li key={l.id} className="flex gap-3"><span className="font-mono text-faint">{new Date(l.at).toLocaleTimeString('en-GB')}</span><span className="break-words min-w-0">{l.sentence}</span></li>)}</ul>
          )}
        </Sheet>
      </div>
    </>
  )
}

type TableRow = { site: string; address?: string; status: string; error?: string; run_id?: number; faults: number; ms: number }

/** What became of each row of a table. */
function TableReport({ run }: { run: Run }) {
  const rows = (run.result as { rows?: TableRow[] } | null)?.rows
  if (!rows) return null
  const state = (r: TableRow) => r.status === 'there' ? <Status tone="plain" icon={Check}>was there</Status> : r.status === 'done' ? <Status tone={r.faults ? 'look' : 'good'} icon={r.faults ? AlertTriangle : Check}>{r.faults ? `${r.faults} checks failed` : 'made'}</Status> : <Status tone="wrong" icon={X}>{r.status}</Status>
  return (
    <Sheet title="Sites" aside={`${rows.length} rows`} className="mb-4">
      <Rows caption="Sites of the table" rows={rows} by={(r) => r.site} columns={[
        { head: 'Site', cell: (r) => r.error ? r.site : <To to={`/sites/${r.site}`}>{r.site}</To> },
        { head: 'Status', cell: state },
        { head: '', grow: true, cell: (r) => r.error ?? (r.address && <Out href={r.address} />) },
        { head: 'Run', right: true, cell: (r) => r.run_id && <To to={`/runs/${r.run_id}`}>{r.run_id}</To> },
        { head: 'Took', right: true, cell: (r) => r.ms > 0 && millis(r.ms) },
      ]} />
    </Sheet>
  )
}

/** Leads to what came of it. */
function Outcome({ run }: { run: Run }) {
  if (run.status !== 'done') return null
  const result = (run.result ?? {}) as { release?: string; site?: string }
  const [, name = ''] = /^\w+ (?:site )?(\S+)$/.exec(run.title) ?? []
  switch (run.job) {
    case 'build': case 'import': return <ButtonLink primary to={`/releases/${result.release}`}>Open {result.release}</ButtonLink>
    case 'provision': return <ButtonLink primary to={`/sites/${result.site}`}>Open {result.site}</ButtonLink>
    case 'survey': return <ButtonLink primary to={`/sources/${name}`}>Open {name}</ButtonLink>
    case 'verify': return <ButtonLink primary to={`/releases/${name}`}>Open {name}</ButtonLink>
    case 'compare': return <ButtonLink primary to={`/comparisons/${run.id}`}>See the differences</ButtonLink>
    case 'undo': case 'copy': case 'retire': case 'rotate': case 'move': case 'check': return <ButtonLink primary to={`/sites/${name}`}>Open {name}</ButtonLink>
  }
}
