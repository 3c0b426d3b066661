import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useMemo } from 'react'
import type { Run } from '../../api/client'
import { useLiveRuns } from '../../api/events'
import { useRuns } from '../../api/hooks'
import { useAddressValue, useSearchText } from '../../lib/address'
import { took } from '../../lib/format'
import { progressSentence } from '../../lib/progress'
import { Chips } from '../../parts/Chips'
import { Select } from '../../parts/Field'
import { Find } from '../../parts/Find'
import { Head } from '../../parts/Head'
import { List, type ListColumn } from '../../parts/List'
import { To } from '../../parts/Links'
import { Empty, Shown } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { RunStatus } from '../../parts/Status'
import { When } from '../../parts/When'
import { jobs } from './outcome'

type Status = NonNullable<Parameters<typeof useRuns>[0]['status']>

const columns: ListColumn<Run>[] = [
  { id: 'run', head: t`Run`, right: true, cell: (r) => r.id },
  { id: 'work', head: t`Work`, fixed: true, cell: (r) => <To to={`/runs/${r.id}`}>{r.title}</To> },
  { id: 'status', head: t`Status`, cell: (r) => <RunStatus status={r.status} /> },
  { id: 'says', head: t`Says`, grow: true, cell: (r) => <span className="text-soft line-clamp-1 break-all">{r.error || (r.status === 'working' ? progressSentence(r) : '')}</span> },
  { id: 'by', head: t`By`, wide: true, cell: (r) => r.who },
  { id: 'when', head: t`When`, cell: (r) => <When at={r.created_at} /> },
  { id: 'took', head: t`Took`, wide: true, right: true, cell: (r) => took(r.started_at, r.ended_at) },
]

export function Runs() {
  const search = useSearchText()
  const [status, setStatus] = useAddressValue('status')
  const [job, setJob] = useAddressValue('job')
  const runs = useRuns({ find: search.find || undefined, status: (status || undefined) as Status | undefined, job: job || undefined })
  const live = useLiveRuns()
  const rows = useMemo(() => (runs.data?.pages.flat() ?? []).map((r) => live.find((l) => l.id === r.id) ?? r), [runs.data, live])
  const allowed = 'Notification' in window ? Notification.permission : 'denied'
  return (
    <>
      <Head title={t`Runs`} facts={t`Background work. It goes on when you leave the page, and when the service is restarted.`}>
        {allowed === 'default' && <button type="button" className="text-soft underline underline-offset-2 hover:text-ink" onClick={() => void Notification.requestPermission()}><Trans>Notify me when long work ends</Trans></button>}
      </Head>
      <div className="flex flex-wrap items-center gap-2 mb-3">
        <Find label={t`part of its title`} value={search.typed} onChange={search.type} />
        <Chips label={t`Status of runs`} value={status} onPick={setStatus} chips={[
          { value: '', label: t`all` }, { value: 'working', label: t`working` }, { value: 'waiting', label: t`waiting` }, { value: 'failed', label: t`failed` },
          { value: 'cancelled', label: t`cancelled` }, { value: 'done', label: t`done` },
        ]} />
        <label className="ml-auto flex items-center gap-2 text-soft"><Trans>of</Trans>
          <Select aria-label={t`Work`} className="h-[26px]! w-44!" value={job} onChange={(e) => setJob(e.target.value)}>
            <option value=""><Trans>all work</Trans></option>{Object.entries(jobs).map(([j, label]) => <option key={j} value={j}>{label}</option>)}
          </Select>
        </label>
      </div>
      <Sheet>
        <Shown of={runs}>{() => rows.length === 0 ? <Empty>{search.find || status || job ? t`No run is like that.` : t`Nothing was run yet.`}</Empty> : (
          <List name="runs" caption={t`Runs`} rows={rows} by={(r) => String(r.id)} columns={columns}
            more={runs.hasNextPage && !runs.isFetchingNextPage ? () => void runs.fetchNextPage() : undefined} />
        )}</Shown>
      </Sheet>
    </>
  )
}
