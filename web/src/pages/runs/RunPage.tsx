import { plural, t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { AlertTriangle, Check, X } from 'lucide-react'
import { useState } from 'react'
import { useParams } from 'react-router'
import type { Run, Schemas } from '../../api/client'
import { ended, useAhead, useCancel, useLog, useRetry, useRun } from '../../api/hooks'
import { called } from '../../lib/called'
import { day, millis, size, time, took } from '../../lib/format'
import { progressSentence } from '../../lib/progress'
import { said } from '../../lib/said'
import { useFollow } from '../../lib/useFollow'
import { Button, ButtonLink } from '../../parts/Button'
import { Input } from '../../parts/Field'
import { Head } from '../../parts/Head'
import { Out, To } from '../../parts/Links'
import { Rows } from '../../parts/Rows'
import { Empty, Loading, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { SizeBar } from '../../parts/SizeBar'
import { RunStatus, Status } from '../../parts/Status'
import { When } from '../../parts/When'
import { Meter } from '../../parts/WorkStrip'
import { concerns } from './outcome'

export function RunPage() {
  const id = Number(useParams().id)
  const run = useRun(id)
  const cancel = useCancel()
  const retry = useRetry()
  const { start } = useFollow()
  if (run.isPending) return <Loading />
  if (!run.data) return <><Head title={t`Run ${id}`} /><Trouble error={run.error} /></>
  const r = run.data
  const about = concerns(r)
  const over = ended(r)
  return (
    <>
      <Head title={r.title} crumbs={[{ to: '/runs', label: t`Runs` }]} beside={<RunStatus status={r.status} />} facts={<>
        <span><Trans>run {r.id}</Trans></span><span><Trans>by {r.who}</Trans></span><span><When at={r.created_at} /></span>{r.ended_at && <span><Trans>took <b>{took(r.started_at, r.ended_at)}</b></Trans></span>}
      </>}>
        {!over && !r.committed && <Button disabled={cancel.isPending} onClick={() => cancel.mutate(id)}>{r.status === 'cleanup-failed' ? t`Give up` : t`Cancel`}</Button>}
        {over && r.repeats && r.status !== 'done' && (
          <Button primary disabled={retry.isPending} onClick={() => start(retry.mutateAsync({ id }))}><Trans>Try again</Trans></Button>
        )}
        {over && about && <ButtonLink primary={r.status === 'done'} to={about.to}>{r.status === 'done' ? t`Open ${about.label}` : t`Go to ${about.label}`}</ButtonLink>}
      </Head>
      <Trouble error={cancel.error ?? retry.error} />
      {r.error && <p role="alert" className="text-clay bg-clay-wash rounded px-3 py-2 mb-4 break-words">{r.error}</p>}
      {!over && (
        <Sheet className="p-4 mb-4">
          {r.status !== 'cleanup-failed' && <Meter run={r} />}
          <p className="mt-2" role="status">{progressSentence(r)}</p>
          <p className="text-faint mt-1"><Trans>Leaving this page changes nothing.</Trans> {r.committed && <Trans>It is past the point where it can be cancelled.</Trans>}</p>
        </Sheet>
      )}
      {r.job === 'table' && <TableReport run={r} />}
      <div className="grid lg:grid-cols-2 gap-4 items-start">
        <Steps run={r} />
        <Log run={r} />
      </div>
    </>
  )
}

/** What is ahead after a step, of what was ahead when it was asked: steps may have begun since. */
function stillAhead(begun: { name: string }[], ahead: Schemas['StepTime'][]) {
  const newest = begun.at(-1)?.name
  return ahead.slice(ahead.findLastIndex((s) => s.name === newest) + 1)
}

type StepOf = { name: string; ms: number; ahead?: boolean }

/** The steps that were, and those that are ahead, as the last run of its sort had them. */
function Steps({ run: r }: { run: Run }) {
  const p = r.progress
  const begun: StepOf[] = p.steps ?? []
  const over = ended(r)
  const ahead = useAhead(r.id, begun.length, over).data
  const steps = over ? begun : [...begun, ...stillAhead(begun, ahead?.steps ?? []).map((s) => ({ ...s, ahead: true }))]
  const longest = Math.max(1, ...steps.map((s) => s.ms))
  return (
    <Sheet title={t`Steps`} aside={t`${plural(p.done?.files ?? 0, { one: '# file', other: '# files' })}, ${plural(p.done?.rows ?? 0, { one: '# row', other: '# rows' })}, ${size(p.done?.bytes ?? 0)}`}>
      {steps.length === 0 ? <Empty>{over ? t`It ended before its first step.` : t`It has not begun yet.`}</Empty> : (
        <ol>{steps.map((s, i) => (
          <li key={s.name + i} className={`flex items-center gap-3 h-[28px] px-4 border-t border-line ${s.ahead ? 'text-faint' : ''}`} aria-current={!over && i === begun.length - 1 ? 'step' : undefined}>
            <span className="text-faint font-mono w-5">{i + 1}</span><span className="flex-1 truncate">{said(s.name)}</span>
            {!s.ahead && <SizeBar bytes={s.ms} most={longest} />}
            <span className="font-mono min-w-20 text-right whitespace-nowrap">{s.ahead ? t`about ${millis(s.ms)}` : s.ms || over ? millis(s.ms) : '…'}</span>
          </li>
        ))}</ol>
      )}
      {!over && ahead?.run && ahead.steps.length > 0 && <p className="px-4 py-2 border-t border-line text-soft"><Trans>What is ahead is known from <To to={`/runs/${ahead.run}`}>run {ahead.run}</To>.</Trans></p>}
    </Sheet>
  )
}

/** What was out of the ordinary, searched by a part of it. */
function Log({ run: r }: { run: Run }) {
  const log = useLog(r.id, [r.status, r.progress.steps?.length])
  const [find, setFind] = useState('')
  const all = log.data ?? []
  const lines = find ? all.filter((l) => l.sentence.toLowerCase().includes(find.toLowerCase())) : all
  return (
    <Sheet title={t`Log`} aside={all.length > 12 && <Input aria-label={t`Find in the log`} placeholder={t`find`} className="h-[26px]! w-40!" value={find} onChange={(e) => setFind(e.target.value)} />}>
      <div className="px-4"><Trouble error={log.error} /></div>
      {lines.length === 0 ? !log.error && <Empty>{find ? t`No line has that in it.` : t`Nothing out of the ordinary.`}</Empty> : (
        <ul className="px-4 pb-3 max-h-[28rem] overflow-auto" tabIndex={0} aria-label={t`Lines of the log`}>
          {lines.map((l) => (
            <li key={l.id} className="flex gap-3">
              <time dateTime={l.at} title={day(l.at)} className="font-mono text-faint">{time(l.at)}</time>
              <span className="break-words min-w-0">{l.sentence}</span>
            </li>
          ))}
        </ul>
      )}
    </Sheet>
  )
}

type TableRow = { site: string; address?: string; status: string; error?: string; run_id?: number; faults: number; ms: number }

function RowState({ row: r }: { row: TableRow }) {
  if (r.status === 'there') return <Status tone="plain" icon={Check}><Trans>was there</Trans></Status>
  if (r.status !== 'done') return <Status tone="wrong" icon={X}>{called(r.status)}</Status>
  return <Status tone={r.faults ? 'look' : 'good'} icon={r.faults ? AlertTriangle : Check}>{r.faults ? t`${plural(r.faults, { one: '# check', other: '# checks' })} failed` : t`made`}</Status>
}

/** What became of each row of a table. */
function TableReport({ run }: { run: Run }) {
  const rows = (run.result as { rows?: TableRow[] } | null)?.rows
  if (!rows) return null
  return (
    <Sheet title={t`Sites`} aside={t`${plural(rows.length, { one: '# row', other: '# rows' })}`} className="mb-4">
      <Rows caption={t`Sites of the table`} rows={rows} by={(r) => r.site} columns={[
        { head: t`Site`, cell: (r) => (r.error ? r.site : <To to={`/sites/${r.site}`}>{r.site}</To>) },
        { head: t`Status`, cell: (r) => <RowState row={r} /> },
        { head: '', grow: true, cell: (r) => r.error ?? (r.address && <Out href={r.address} />) },
        { head: t`Run`, right: true, cell: (r) => r.run_id && <To to={`/runs/${r.run_id}`}>{r.run_id}</To> },
        { head: t`Took`, right: true, cell: (r) => r.ms > 0 && millis(r.ms) },
      ]} />
    </Sheet>
  )
}
