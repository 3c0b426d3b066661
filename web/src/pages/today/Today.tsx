import { plural, t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { CalendarClock, Check, EyeOff, Globe } from 'lucide-react'
import type { ReactNode } from 'react'
import type { Schemas } from '../../api/client'
import { useAcceptCheck, useAcceptFinding, useCheck, useRetry, useRuns, useSurvey, useTick, useToday } from '../../api/hooks'
import { called } from '../../lib/called'
import { date, onlyDay, took } from '../../lib/format'
import { useFollow } from '../../lib/useFollow'
import { Button, ButtonLink } from '../../parts/Button'
import { Ask, text } from '../../parts/Dialog'
import { TextField, Tick } from '../../parts/Field'
import { Head } from '../../parts/Head'
import { Out, OutIcon, To } from '../../parts/Links'
import { Rows } from '../../parts/Rows'
import { Shown, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { Result, RunStatus, Status } from '../../parts/Status'
import { When } from '../../parts/When'
import { FirstSteps } from './FirstSteps'
import { together } from './together'

type Day = Schemas['Today']
type Group = Schemas['TodayGroup']
type Item = Schemas['TodayItem']

const placeOf = (g: Group) => g.noun === 'service' ? '/starters' : `/${{ site: 'sites', source: 'sources', host: 'hosts', run: 'runs' }[g.noun]}/${g.name}`

/** What needs attention, and what one does about it. Nothing when there is nothing. */
export function Today() {
  const today = useToday()
  const seen = today.data
  return (
    <>
      <Head title={t`Today`} facts={seen && <>
        <span>{plural(seen.sources, { one: '# source', other: '# sources' })}</span><span>{plural(seen.starters, { one: '# starter', other: '# starters' })}</span><span>{plural(seen.clients, { one: '# client', other: '# clients' })}</span><span>{plural(seen.sites, { one: '# site', other: '# sites' })}</span>
      </>}>
        {!!seen?.starters && <ButtonLink primary to="/sites/new"><Trans>Make a site</Trans></ButtonLink>}
      </Head>
      <Shown of={today}>{(day) => day.sites === 0 ? <FirstSteps today={day} /> : <Begun day={day} />}</Shown>
    </>
  )
}

function Begun({ day }: { day: Day }) {
  return (
    <div className="grid gap-4 xl:grid-cols-[minmax(0,3fr)_minmax(0,2fr)] items-start">
      <Attention day={day} />
      <div className="grid gap-4 min-w-0">
        <Tasks day={day} />
        <Waiting title={t`Held for the client`} sites={day.held} icon={EyeOff} says={t`made`} />
        <Waiting title={t`Domains starting to point here`} sites={day.leading} icon={Globe} says={t`made`} />
        <Ending day={day} />
        <Uncopied day={day} />
        <Behind day={day} />
        <Lately />
      </div>
    </div>
  )
}

function Attention({ day }: { day: Day }) {
  if (day.groups.length === 0) {
    return (
      <Sheet title={t`Needs attention`}>
        <p className="px-4 pb-4 flex items-center gap-2 text-soft">
          <Check size={16} className="text-leaf" aria-hidden /><Trans>Nothing: all sites passed their checks, and no work failed.</Trans>
        </p>
      </Sheet>
    )
  }
  return (
    <Sheet title={t`Needs attention`} aside={plural(day.groups.length, { one: '# place', other: '# places' })}>
      <ul aria-label={t`What needs attention`}>
        {together(day.groups).map(({ first: g, others }) => (
          <li key={g.noun + g.name} className="px-4 py-2.5 border-t border-line grid gap-1.5">
            <p className="flex flex-wrap items-center gap-2">
              <Result result={g.severity} />
              <To to={placeOf(g)}>{g.title}</To>
              {others.length === 0 ? <span className="text-soft">{g.noun === 'service' ? '' : called(g.noun)}</span> : <span className="text-soft"><Trans>and <Plural value={others.length} one="# more site" other="# more sites" /> with just the same</Trans></span>}
            </p>
            <ul className="grid gap-1">{g.items.map((i) => <Attended key={i.sentence} group={g} item={i} many={others.length > 0} />)}</ul>
            {others.length > 0 && (
              <details className="text-soft"><summary><Trans>The others</Trans></summary>
                <ul className="columns-2 gap-x-4 pt-1">{others.map((o) => <li key={o.name} className="truncate"><To to={`/sites/${o.name}`}>{o.title}</To></li>)}</ul>
              </details>
            )}
          </li>
        ))}
      </ul>
      {day.more > 0 && <p className="px-4 py-2 border-t border-line text-soft"><Trans>and <To to="/sites?sort=attention"><Plural value={day.more} one="# more site" other="# more sites" /></To></Trans></p>}
    </Sheet>
  )
}

/** One thing that was found, with the button that settles it. */
function Attended({ group, item, many }: { group: Group; item: Item; many: boolean }) {
  return (
    <li className="flex flex-wrap items-start gap-x-3 gap-y-1">
      <span className="min-w-0 flex-[1_1_16rem] break-words">{item.sentence}</span>
      <span className="flex gap-1.5 shrink-0">
        {item.what && (group.noun === 'site' || group.noun === 'source') && <AcceptButton noun={group.noun} name={group.name} what={item.what} where={item.where} many={many} />}
        <Settle group={group} item={item} />
      </span>
    </li>
  )
}

function Settle({ group, item }: { group: Group; item: Item }) {
  const check = useCheck()
  const survey = useSurvey()
  const retry = useRetry()
  const { start } = useFollow()
  const busy = check.isPending || survey.isPending || retry.isPending
  const trouble = <Trouble error={check.error ?? survey.error ?? retry.error} />
  switch (item.act) {
    case 'check': return <><Button small disabled={busy} onClick={() => start(check.mutateAsync(group.name))}><Trans>Check it</Trans></Button>{trouble}</>
    case 'survey': return <><Button small disabled={busy} onClick={() => start(survey.mutateAsync(group.name))}><Trans>Survey it</Trans></Button>{trouble}</>
    case 'retry': return <><Button small disabled={busy} onClick={() => start(retry.mutateAsync({ id: Number(group.name) }))}><Trans>Try again</Trans></Button>{trouble}</>
  }
  const at = group.noun === 'site' ? '#checks' : group.noun === 'source' ? '#findings' : ''
  return <ButtonLink small to={placeOf(group) + at}>{group.noun === 'run' ? t`See why` : t`Look at it`}</ButtonLink>
}

/** The moment after a day, here. */
const untilEndOf = (day: string) => {
  if (!day) return undefined
  const [y, m, d] = day.split('-').map(Number)
  return new Date(y!, m! - 1, d! + 1).toISOString()
}

/** Accepts what is known, with the reason. */
export function AcceptButton({ noun, name, what, where, many }: { noun: 'site' | 'source'; name: string; what: string; where?: string; many?: boolean }) {
  const check = useAcceptCheck()
  const finding = useAcceptFinding()
  const accept = (f: FormData) => noun === 'site'
    ? check.mutateAsync({ site: name, what, reason: text(f, 'reason'), everywhere: f.get('everywhere') !== null || undefined, until: untilEndOf(text(f, 'until')) })
    : finding.mutateAsync({ source: name, what, where, reason: text(f, 'reason') })
  return (
    <Ask asks="Accept" small button={t`Accept…`} title={t`Accept “${what}” on ${name}`} action={t`Accept it`} onSubmit={accept}
      about={t`It stays on the site's page, and is not shown as something to look at. When something else is found there, it is.`}>
      <TextField label={t`Why is it accepted?`} name="reason" autoFocus />
      {noun === 'site' && <TextField label={t`Until (empty for no end)`} name="until" type="date" />}
      {noun === 'site' && <Tick name="everywhere" defaultChecked={many}><Trans>On all sites of the same starter where just the same is found</Trans></Tick>}
    </Ask>
  )
}

function Tasks({ day }: { day: Day }) {
  const tick = useTick()
  if (day.tasks.length === 0) return null
  const late = (task: Schemas['TodayTask']) => task.due !== undefined && Date.parse(task.due) + 86_400_000 < Date.now()
  return (
    <Sheet title={t`Launch tasks`} aside={day.all_tasks > day.tasks.length ? t`${day.tasks.length} of ${day.all_tasks}` : t`${day.all_tasks} to do`}>
      <div className="px-4"><Trouble error={tick.error} /></div>
      <ul className="max-h-80 overflow-auto" tabIndex={0} aria-label={t`Launch tasks`}>
        {day.tasks.map((task) => (
          <li key={`${task.site} ${task.key}`} className="px-4 py-1.5 border-t border-line flex gap-2.5 items-start">
            <input type="checkbox" className="mt-1 accent-[var(--leaf)]" checked={false} disabled={tick.isPending} aria-label={t`Done: ${task.task}, ${task.title || task.site}`}
              onChange={() => tick.mutate({ site: task.site, key: task.key, done: true })} />
            <span className="min-w-0 flex-1 break-words">{task.task}<span className="block text-soft"><To to={`/sites/${task.site}`}>{task.title || task.site}</To></span></span>
            {task.due && <Status tone={late(task) ? 'wrong' : 'plain'} icon={CalendarClock}>{date(task.due)}</Status>}
            {task.page && <ButtonLink small out to={task.page}><Trans>Open</Trans><OutIcon /></ButtonLink>}
          </li>
        ))}
      </ul>
    </Sheet>
  )
}

function Waiting({ title, sites, icon, says }: { title: string; sites: Schemas['SiteRow'][]; icon: typeof EyeOff; says: string }) {
  if (sites.length === 0) return null
  return (
    <Sheet title={title} aside={plural(sites.length, { one: '# site', other: '# sites' })}>
      <ul>
        {sites.slice(0, 8).map((s) => (
          <li key={s.name} className="px-4 min-h-8 py-1 border-t border-line flex items-center gap-3">
            <To to={`/sites/${s.name}`}>{s.title || s.name}</To>
            <span className="min-w-0 truncate flex-1"><Out href={s.address} /></span>
            <span className="text-soft">{says} <When at={s.made_at} /></span>
          </li>
        ))}
      </ul>
      {sites.length > 8 && <p className="px-4 py-1.5 border-t border-line"><To to={icon === EyeOff ? '/sites?state=held' : '/sites?state=leading'}><Trans>all of them</Trans></To></p>}
    </Sheet>
  )
}

const week = 7 * 86_400_000

function Ending({ day }: { day: Day }) {
  if (day.ending.length === 0) return null
  return (
    <Sheet title={t`Certificates that end soon`} aside={plural(day.ending.length, { one: '# site', other: '# sites' })}>
      <ul>{day.ending.map((s) => (
        <li key={s.name} className="px-4 min-h-8 py-1 border-t border-line flex flex-wrap items-center gap-x-3">
          <To to={`/sites/${s.name}#checks`}>{s.title || s.name}</To>
          <span className="min-w-0 truncate flex-1"><Out href={s.address} /></span>
          {s.ends && <Status tone={Date.parse(s.ends) < Date.now() + week ? 'wrong' : 'look'} icon={CalendarClock}>{onlyDay(s.ends)}</Status>}
        </li>
      ))}</ul>
      <p className="px-4 py-2 border-t border-line text-soft"><Trans>As the checks saw them last. A host that renews them by itself has done so by now: check the site to see.</Trans></p>
    </Sheet>
  )
}

function Uncopied({ day }: { day: Day }) {
  if (day.uncopied === 0) return null
  return (
    <Sheet title={t`Safety copies`}>
      <p className="px-4 pb-3"><Trans><To to="/sites?state=uncopied"><Plural value={day.uncopied} one="# public site has" other="# public sites have" /> no safety copy</To> of the last 30 days. Choose them there and copy them together.</Trans></p>
    </Sheet>
  )
}

function Behind({ day }: { day: Day }) {
  if (day.behind.length === 0) return null
  return (
    <Sheet title={t`Sites on older releases`}>
      <Rows caption={t`Starters with sites of older releases`} rows={day.behind} by={(b) => b.starter} columns={[
        { head: t`Starter`, grow: true, cell: (b) => <To to={`/starters/${b.starter}`}>{b.starter}</To> },
        { head: t`Newest`, cell: (b) => <To to={`/releases/${b.starter}@${b.newest}`}>{`@${b.newest}`}</To> },
        { head: '', cell: (b) => <To to={`/sites?state=behind&starter=${b.starter}`}><Trans><Plural value={b.sites} one="# site" other="# sites" /> behind</Trans></To> },
      ]} />
    </Sheet>
  )
}

function Lately() {
  const runs = useRuns({ limit: 8 })
  return (
    <Sheet title={t`Recent runs`} aside={<To to="/runs"><Trans>all runs</Trans></To>}>
      <Shown of={runs}>{(data) => (
        <Rows caption={t`Latest runs`} rows={data.pages[0]!.slice(0, 8)} by={(r) => r.id} columns={[
          { head: t`Work`, grow: true, cell: (r) => <To to={`/runs/${r.id}`}>{r.title}</To> },
          { head: t`Status`, cell: (r): ReactNode => <RunStatus status={r.status} /> },
          { head: t`When`, cell: (r) => <span className="text-soft" title={t`by ${r.who}`}><When at={r.created_at} /></span> },
          { head: t`Took`, right: true, cell: (r) => took(r.started_at, r.ended_at) },
        ]} />
      )}</Shown>
    </Sheet>
  )
}
