import { useRuns, useToday } from '../../api/hooks'
import { ButtonLink, Empty, Head, Loading, Rows, RunStatus, Sheet, To, Trouble, Result } from '../../parts/basics'
import { day, plural, took } from '../../parts/format'

export function Today() {
  const today = useToday()
  const runs = useRuns()
  const t = today.data
  return (
    <>
      <Head title="Today" facts={t && <><span>{plural(t.sources, 'source')}</span><span>{plural(t.starters, 'starter')}</span><span>{plural(t.clients, 'client')}</span><span>{plural(t.sites, 'site')}</span></>}>
        <ButtonLink primary to="/sites/new">Make a site</ButtonLink>
      </Head>
      <Trouble error={today.error} />
      <div className="grid gap-4">
        <Sheet title="Needs attention">
          {!t ? <Loading /> : t.attention.length === 0 ? <Empty>Nothing: all sites passed their checks, and no work failed.</Empty> : (
            <Rows caption="What needs attention" rows={t.attention} by={(a) => a.sentence} columns={[
              { head: 'How bad', cell: (a) => <Result result={a.severity} /> },
              { head: 'What', grow: true, cell: (a) => <To to={a.link}>{a.sentence}</To> },
            ]} />
          )}
        </Sheet>
        <Sheet title="Lately" aside={<To to="/runs">all runs</To>}>
          <Rows caption="Latest runs" rows={(runs.data ?? []).slice(0, 12)} by={(r) => r.id} columns={[
            { head: 'Work', grow: true, cell: (r) => <To to={`/runs/${r.id}`}>{r.title}</To> },
            { head: 'Status', cell: (r) => <RunStatus status={r.status} /> },
            { head: 'By', cell: (r) => r.who },
            { head: 'When', right: true, cell: (r) => day(r.created_at) },
            { head: 'Took', right: true, cell: (r) => took(r.started_at, r.ended_at) },
          ]} />
        </Sheet>
      </div>
    </>
  )
}
