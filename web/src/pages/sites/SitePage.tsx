import { Archive, Check, EyeOff } from 'lucide-react'
import type { ReactNode } from 'react'
import { useParams } from 'react-router'
import { addressOf, type Schemas, type Site } from '../../api/client'
import { useCheck, useRetry, useSideBySide, useSite, useTick, useUnacceptCheck } from '../../api/hooks'
import { count, date, day, millis, plural } from '../../lib/format'
import { useFollow } from '../../lib/useFollow'
import { Button, ButtonLink } from '../../parts/Button'
import { Copy } from '../../parts/Copy'
import { cx } from '../../parts/cx'
import { Ask, text } from '../../parts/Dialog'
import { TextField } from '../../parts/Field'
import { Head } from '../../parts/Head'
import { Out, OutIcon, To } from '../../parts/Links'
import { Rows } from '../../parts/Rows'
import { Empty, Loading, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { Bytes } from '../../parts/SizeBar'
import { Result, Status } from '../../parts/Status'
import { When } from '../../parts/When'
import { AcceptButton } from '../today/Today'
import { Reveal } from '../vault/Reveal'
import { shownValue } from '../clients/ValueField'
import { Checks, countsOf } from './Checks'
import { GoLive, Hold } from './Doors'
import { HandOver } from './HandOver'
import { Names } from './Names'
import { History, MoreActs } from './Upkeep'

/** A site and its life: what has happened to it, where it stands, the one thing to do next, how to go back. */
export function SitePage() {
  const { name = '' } = useParams()
  const site = useSite(name)
  if (site.isPending) return <Loading />
  if (!site.data) return <><Head title={name} /><Trouble error={site.error} /></>
  const s = site.data
  return (
    <>
      <Head title={s.title || s.name} crumbs={[{ to: '/sites', label: 'Sites' }]}
        beside={s.retired_at ? <Status tone="plain" icon={Archive}>retired {day(s.retired_at)}</Status>
          : <>{s.held && <Status tone="look" icon={EyeOff}>held</Status>}<Checks counts={countsOf(s.report, s.accepted?.length)} /></>}
        facts={<>
          <Out href={s.address} /><span>from <To to={`/releases/${s.release}`}>{s.release}</To>{s.behind > 0 && `, ${plural(s.behind, 'release')} behind`}</span>
          <span>for <To to={`/clients/${s.client}`}>{s.client}</To></span><span>on <To to={`/hosts/${s.host}`}>{s.host}</To></span>
          <span><Bytes of={s.bytes} />, {count(s.files)} files, {count(s.rows)} rows</span>
        </>}>
        {!s.retired_at && <>
          <ButtonLink out to={s.login_at}>Log in as administrator<OutIcon /></ButtonLink>
          <ButtonLink out to={s.address}>Open the site<OutIcon /></ButtonLink>
          <MoreActs site={s} />
        </>}
      </Head>
      {!s.retired_at && <Life site={s} />}
      <div className="grid gap-4 lg:grid-cols-[minmax(0,5fr)_minmax(0,3fr)] items-start">
        <div className="grid gap-4 min-w-0">
          <Tasks site={s} />
          <Judged site={s} />
          <Details site={s} />
        </div>
        <div className="grid gap-4 min-w-0">
          {!s.retired_at && <Beside site={s} />}
          <Login site={s} />
          {!s.retired_at && <HandOver site={s} />}
          <History site={s} />
          {!s.retired_at && <Names site={s.name} />}
        </div>
      </div>
    </>
  )
}

type Stage = { title: string; says: ReactNode; state: 'done' | 'now' | 'later'; act?: ReactNode }

/** The stages from made to handed over; where it is now has its act. */
function Life({ site }: { site: Site }) {
  const live = !site.held && site.visible && !site.quiet
  const opened = site.handovers?.find((h) => h.opened_at)
  const r = site.report
  const faults = r?.checks.filter((c) => c.result === 'fail').length ?? 0
  const stages: Stage[] = [
    { title: 'Made', state: 'done', says: <><When at={site.made_at} /> in <To to={`/runs/${site.run_id}`}>run {site.run_id}</To></> },
    { title: 'Checked', state: !r ? 'now' : faults > 0 ? 'now' : 'done', says: !r ? 'not yet' : faults > 0 ? plural(faults, 'fault') : <>{plural(r.pages, 'page')}, <When at={r.at} /></> },
    { title: site.held ? 'Held for preview' : 'Open to visitors', state: live ? 'done' : 'now', says: site.held ? 'only by the link' : 'at its address', act: <Hold site={site} /> },
    { title: 'Live', state: live ? 'done' : 'later', says: live ? 'search engines and mail too' : 'search engines and mail wait', act: !live && <GoLive site={site} /> },
    { title: 'Handed over', state: opened ? 'done' : 'later', says: opened?.opened_at ? <>opened <When at={opened.opened_at} /></> : site.handovers?.length ? 'link not opened yet' : live ? 'no link yet' : 'when it is live' },
  ]
  return (
    <ol aria-label="Its life" className="bg-sheet border border-line rounded-md mb-4 grid grid-cols-2 md:grid-cols-3 xl:grid-cols-5">
      {stages.map((s) => (
        <li key={s.title} className={cx('px-4 py-2.5 border-line border-r last:border-r-0 border-b xl:border-b-0', s.state === 'now' && 'bg-leaf-wash')}>
          <p className={cx('font-bold flex items-center gap-1.5', s.state === 'later' && 'text-soft')}>
            {s.state === 'done' && <Check size={14} className="text-leaf" aria-label="done:" />}{s.title}
          </p>
          <div className="text-soft flex flex-wrap items-center gap-2">{s.says}{s.act}</div>
        </li>
      ))}
    </ol>
  )
}

/** What a person must still do on the site, until it is ticked off. */
function Tasks({ site }: { site: Site }) {
  const tick = useTick()
  if (site.tasks.length === 0) return null
  const done = site.tasks.filter((t) => t.done_at).length
  return (
    <Sheet title="To do before it goes live" aside={`${done} of ${site.tasks.length} done`}>
      <div className="px-4"><Trouble error={tick.error} /></div>
      <ul className="pb-1">
        {site.tasks.map((t) => (
          <li key={t.key} className="px-4 py-1.5 flex flex-wrap gap-x-2.5 gap-y-1 border-t border-line">
            <input id={`task-${t.key}`} type="checkbox" className="mt-1 self-start accent-[var(--leaf)]" checked={!!t.done_at} disabled={tick.isPending || !!site.retired_at}
              onChange={(e) => tick.mutate({ site: site.name, key: t.key, done: e.target.checked })} />
            <label htmlFor={`task-${t.key}`} className="min-w-0 flex-1">
              <b className={t.done_at ? 'font-normal text-soft' : ''}>{t.title}</b>
              {t.done_at ? <span className="text-soft"> · {t.done_by}, <When at={t.done_at} /></span> : <span className="text-soft"> {t.detail}</span>}
            </label>
            {!t.done_at && !site.retired_at && <Due site={site.name} task={t} />}
            {!t.done_at && t.page && <ButtonLink small out to={t.page}>Open the page<OutIcon /></ButtonLink>}
          </li>
        ))}
      </ul>
    </Sheet>
  )
}

function Due({ site, task }: { site: string; task: Schemas['LaunchTask'] }) {
  const tick = useTick()
  return (
    <Ask small button={task.due ? `by ${date(task.due)}` : 'By when…'} title={`By when: ${task.title}`} action="Set it" about="Today lists launch tasks in this order. Empty for no day."
      onSubmit={(f) => tick.mutateAsync({ site, key: task.key, done: false, due: text(f, 'due') || '0001-01-01' })}>
      <TextField label="Day" name="due" type="date" defaultValue={task.due?.slice(0, 10)} />
    </Ask>
  )
}

/** The checks: what fails is open with what to do about it, what passes is folded. */
function Judged({ site }: { site: Site }) {
  const check = useCheck()
  const { start } = useFollow()
  const r = site.report
  const accepted = (c: Schemas['Check']) => site.accepted?.find((a) => a.what === c.name)
  const open = r?.checks.filter((c) => c.result !== 'pass' && !accepted(c)) ?? []
  const known = r?.checks.filter((c) => c.result !== 'pass' && accepted(c)) ?? []
  const passed = r?.checks.filter((c) => c.result === 'pass') ?? []
  return (
    <Sheet id="checks" title="Checks" aside={<span className="flex flex-wrap items-center gap-3">
      {r && <span>{plural(r.pages, 'page')}, <When at={r.at} />, in {millis(r.took_ms)}</span>}
      {!site.retired_at && <Button small disabled={check.isPending} onClick={() => start(check.mutateAsync(site.name))}>Check it now</Button>}
    </span>}>
      <div className="px-4"><Trouble error={check.error} /></div>
      {!r ? <Empty>Not checked yet.</Empty> : (
        <ul>
          {open.map((c) => <Judgement key={c.name} check={c} act={c.result === 'warn' && !site.retired_at && <AcceptButton noun="site" name={site.name} what={c.name} />} />)}
          {known.map((c) => <Known key={c.name} site={site} check={c} accepted={accepted(c)!} />)}
          <li className="border-t border-line">
            <details open={open.length === 0 && passed.length <= 4}>
              <summary className="px-4 py-2 text-soft">{passed.length} pass</summary>
              <ul>{passed.map((c) => <Judgement key={c.name} check={c} />)}</ul>
            </details>
          </li>
        </ul>
      )}
      <MakeAgain site={site} />
    </Sheet>
  )
}

function Judgement({ check: c, act }: { check: Schemas['Check']; act?: ReactNode }) {
  return (
    <li className="px-4 py-1.5 border-t border-line flex flex-wrap gap-x-3 gap-y-1 items-baseline">
      <span className="w-16 shrink-0"><Result result={c.result} /></span>
      <div className="min-w-0 flex-[1_1_18rem]">
        <b>{c.name}</b> {c.sentence}
        {c.evidence?.map((e) => <p key={e} className="font-mono text-[0.9rem] text-soft break-all">{e}</p>)}
        {c.remedy && <p className="text-soft">What to do: {c.remedy}</p>}
      </div>
      {act}
    </li>
  )
}

function Known({ site, check, accepted }: { site: Site; check: Schemas['Check']; accepted: Schemas['Acceptance'] }) {
  const unaccept = useUnacceptCheck()
  return (
    <li className="px-4 py-1.5 border-t border-line flex flex-wrap gap-x-3 gap-y-1 items-baseline">
      <span className="w-16 shrink-0"><Status tone="plain" icon={Check}>known</Status></span>
      <div className="min-w-0 flex-[1_1_18rem]"><b>{check.name}</b> {check.sentence}
        <p className="text-soft">{accepted.reason} ({accepted.who}, {day(accepted.at)}{accepted.everywhere && ', for all sites of the starter'})</p></div>
      <Button small disabled={unaccept.isPending} onClick={() => unaccept.mutate({ site: site.name, what: check.name })}>Accept it no more</Button>
    </li>
  )
}

/** What to do about a site whose checks found faults. */
function MakeAgain({ site }: { site: Site }) {
  const retry = useRetry()
  const { start } = useFollow()
  const starter = site.release.split('@')[0]
  if (site.retired_at || !site.report?.checks.some((c) => c.result === 'fail')) return null
  return (
    <div className="px-4 py-3 border-t border-line">
      <p className="text-soft mb-2">Correct what is wrong on the site and check it again; or correct the source or the packing list, build {starter} again, and make the site again. What stands there becomes a safety copy.</p>
      <Button disabled={retry.isPending} onClick={() => start(retry.mutateAsync({ id: site.run_id, from: starter }))}>Make it again from the newest release</Button>
      <Trouble error={retry.error} />
    </div>
  )
}

/** The first page of the site beside its source's, where somebody has looked. */
function Beside({ site }: { site: Site }) {
  const seen = useSideBySide(site.name)
  const page = seen.data?.pages.find((p) => !p.problem)
  const picture = (file: string) => addressOf('/sites/{name}/side-by-side/{file}', { path: { name: site.name, file }, query: { at: seen.data!.at } })
  return (
    <Sheet>
      {page && (
        <div className="grid grid-cols-2 gap-px bg-line">
          {[['source', page.left], ['site', page.right]].map(([what, file]) => (
            <div key={what} className="h-36 overflow-hidden bg-sheet"><img src={picture(file!)} alt={`Home page of the ${what}`} className="block w-full" loading="lazy" /></div>
          ))}
        </div>
      )}
      <p className="px-4 py-2 flex items-center gap-3 justify-between">
        <span><b>Beside its source</b>{seen.data && <span className="text-soft"> seen <When at={seen.data.at} /></span>}</span>
        <ButtonLink small to={`/sites/${site.name}/side-by-side`}>{seen.data ? plural(seen.data.pages.length, 'page') : 'Look'}</ButtonLink>
      </p>
    </Sheet>
  )
}

function Login({ site: s }: { site: Site }) {
  return (
    <Sheet title="Login">
      <dl className="px-4 pb-3 grid grid-cols-[5rem_minmax(0,1fr)_auto] gap-y-1.5 gap-x-2 items-center">
        <dt className="text-soft">At</dt><dd className="truncate"><Out href={s.login_at} /></dd><dd><Copy text={s.login_at} what="the address of the log-in" /></dd>
        <dt className="text-soft">As</dt><dd className="font-mono truncate">{s.admin}</dd><dd><Copy text={s.admin} what="the name" /></dd>
        <dt className="text-soft">Password</dt><dd className="col-span-2">{s.retired_at ? <span className="text-soft">removed with the site</span> : <Reveal noun="site" owner={s.name} name="administrator" />}</dd>
        {s.kept?.users !== undefined && <dd className="col-span-3 text-soft">The accounts that were there log in as before.</dd>}
      </dl>
    </Sheet>
  )
}

/** What it is made of and where, for whoever wants to know. */
function Details({ site: s }: { site: Site }) {
  const r = s.rewritten
  return (
    <Sheet title="What was set, and where it is">
      <Rows caption="Values" rows={s.values} by={(v) => v.key} columns={[
        { head: 'Value', cell: (v) => v.label },
        { head: '', grow: true, cell: (v) => <span className={cx('break-words', v.secret && 'text-soft')}>{shownValue(v.value)}</span> },
        { head: 'From', cell: (v) => <span className="text-soft">{v.origin}</span> },
      ]} />
      <dl className="px-4 py-3 grid grid-cols-[8.5rem_minmax(0,1fr)] gap-y-1 border-t border-line">
        <dt className="text-soft">Folder</dt><dd className="font-mono break-all">{s.folder}</dd>
        <dt className="text-soft">Database</dt><dd>{s.database ? <><span className="font-mono">{s.database}</span>, {count(s.rows)} rows</> : 'none'}{s.prefix && <>, prefix <span className="font-mono">{s.prefix}</span></>}</dd>
        {!s.retired_at && s.lead && <><dt className="text-soft">Name</dt><dd>{s.lead.sentence}<span className="text-soft">, since {day(s.lead.since)}</span></dd></>}
        <dt className="text-soft">Search engines</dt><dd>{s.visible ? 'let in' : 'kept out'}</dd>
        <dt className="text-soft">Mail</dt><dd>{s.quiet ? 'kept from going out, as this is a preview' : 'goes out'}</dd>
        {s.install && <><dt className="text-soft">Code</dt><dd>that of install <To to={`/installs/${s.install}`}>{s.install}</To>, which it shares with others</dd></>}
        <Descent site={s} />
        <dt className="text-soft">Rewritten</dt><dd>{count(r.replaced)} places{r.replaced > 0 && ': '}{Object.entries(r.forms ?? {}).map(([k, n]) => `${count(n)} ${k}`).join(', ')}; {count(r.serialised)} of them inside serialised values{r.broken > 0 && `; ${count(r.broken)} values were broken before and left as they are`}
          {r.samples && <details><summary className="text-soft">Examples of each</summary>{r.samples.map((x) => <p key={x.where + x.before} className="font-mono text-[0.9rem] text-soft break-all">{x.form}, in {x.where}: {x.before} → {x.after}</p>)}</details>}</dd>
        {s.kept && <><dt className="text-soft">Kept</dt><dd>{Object.entries(s.kept).map(([k, n]) => `${count(n)} rows of ${k}`).join(', ')}</dd></>}
        {s.upgraded && <><dt className="text-soft">Upgraded</dt><dd>its tables to version {s.upgraded}, by the site itself</dd></>}
        {s.adjustments && <><dt className="text-soft">Adjusted</dt><dd>{s.adjustments.join(' ')}</dd></>}
        <dt className="text-soft">Steps</dt><dd>{s.steps.map((t) => `${t.name.toLowerCase()} ${millis(t.ms)}`).join(', ')}</dd>
      </dl>
    </Sheet>
  )
}

const pages: Record<string, string> = { release: 'releases', source: 'sources', site: 'sites' }

/** Where the site comes from: release, source, and, where that was provisioned itself, its site and so on. */
function Descent({ site }: { site: Site }) {
  return (
    <>
      <dt className="text-soft">Descent</dt>
      <dd>{(site.descent ?? []).map((f, i) => (
        <span key={`${f.noun} ${f.name}`}>
          {i > 0 && ' ← '}{f.noun !== 'release' && `${f.noun} `}{f.gone && f.noun === 'source' ? f.name : <To to={`/${pages[f.noun]}/${f.name}`}>{f.name}</To>}{f.gone && <span className="text-soft"> (gone)</span>}
        </span>
      ))}</dd>
    </>
  )
}

