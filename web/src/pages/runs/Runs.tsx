import { useRuns } from '../../api/hooks'
import { useLiveRuns } from '../../api/events'
import { Empty, Head, Loading, Rows, RunStatus, Sheet, To, Trouble } from '../../parts/basics'
import { day, took } from '../../parts/format'
import { progressSentence } from '../../parts/progress'

export function Runs() {
  const runs = useRuns()
  const live = useLiveRuns()
  const rows = (runs.data ?? []).map((r) => live.find((l) => l.id === r.id) ?? r)
  return (
    <>
      <Head title="Runs" facts="Background work. It goes on when you leave the page, and when the service is restarted." />
      <Trouble error={runs.error} />
      <Sheet>
        {runs.isPending ? <Loading /> : rows.length === 0 ? <Empty>Nothing was run yet.</Empty> : (
          <Rows caption="Runs" rows={rows} by={(r) => r.id} columns={[
            { head: 'Run', right: true, cell: (r) => r.id },
            { head: 'Work', cell: (r) => <To to={`/runs/${r.id}`}>{r.title}</To> },
            { head: 'Status', cell: (r) => <RunStatus status={r.status} /> },
            { head: '', grow: true, cell: (r) => <span className="text-soft">{r.error || (r.status === 'working' ? progressSentence(r) : '')}</span> },
            { head: 'By', cell: (r) => r.who },
            { head: 'When', right: true, cell: (r) => day(r.created_at) },
            { head: 'Took', right: true, cell: (r) => took(r.started_at, r.ended_at) },
          ]} />
        )}
      </Sheet>
    </>
  )
}
