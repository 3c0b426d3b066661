import { plural, t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { Archive, Check, EyeOff } from 'lucide-react'
import type { ReactNode } from 'react'
import { useParams } from 'react-router'
import { addressOf, type Schemas, type Site } from '../../api/client'
import { useSideBySide, useSite, useTick } from '../../api/hooks'
import { called } from '../../lib/called'
import { count, date, day, inRow, millis } from '../../lib/format'
import { said } from '../../lib/said'
import { ButtonLink } from '../../parts/Button'
import { Copy } from '../../parts/Copy'
import { cx } from '../../parts/cx'
import { Ask, text } from '../../parts/Dialog'
import { TextField } from '../../parts/Field'
import { Head } from '../../parts/Head'
import { Out, OutIcon, To } from '../../parts/Links'
import { Rows } from '../../parts/Rows'
import { Loading, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { Bytes } from '../../parts/SizeBar'
import { Status } from '../../parts/Status'
import { When } from '../../parts/When'
import { Reveal } from '../vault/Reveal'
import { shownValue } from '../clients/ValueField'
import { Checks, countsOf } from './Checks'
import { GoLive, Hold } from './Doors'
import { HandOver } from './HandOver'
import { Judged } from './Judged'
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
      <Head title={s.title || s.name} crumbs={[{ to: '/sites', label: t`Sites` }]}
        beside={s.retired_at ? <Status tone="plain" icon={Archive}><Trans>retired {day(s.retired_at)}</Trans></Status>
          : <>{s.held && <Status tone="look" icon={EyeOff}><Trans>held</Trans></Status>}<Checks counts={countsOf(s.report, s.accepted)} /></>}
        facts={<>
          <Out href={s.address} /><span>{s.behind > 0 ? <Trans>from <To to={`/releases/${s.release}`}>{s.release}</To>, <Plural value={s.behind} one="# release" other="# releases" /> behind</Trans>
            : <Trans>from <To to={`/releases/${s.release}`}>{s.release}</To></Trans>}</span>
          <span><Trans>for <To to={`/clients/${s.client}`}>{s.client}</To></Trans></span><span><Trans>on <To to={`/hosts/${s.host}`}>{s.host}</To></Trans></span>
          <span><Trans><Bytes of={s.bytes} />, <Plural value={s.files} one="# file" other="# files" />, <Plural value={s.rows} one="# row" other="# rows" /></Trans></span>
        </>}>
        {!s.retired_at && <>
          <ButtonLink out to={s.login_at}><Trans>Log in as administrator</Trans><OutIcon /></ButtonLink>
          <ButtonLink out to={s.address}><Trans>Open the site</Trans><OutIcon /></ButtonLink>
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
    { title: t`Made`, state: 'done', says: <><Trans><When at={site.made_at} /> in <To to={`/runs/${site.run_id}`}>run {site.run_id}</To></Trans></> },
    { title: t`Checked`, state: !r ? 'now' : faults > 0 ? 'now' : 'done', says: !r ? t`not yet` : faults > 0 ? plural(faults, { one: '# fault', other: '# faults' }) : <>{plural(r.pages, { one: '# page', other: '# pages' })}, <When at={r.at} /></> },
    { title: site.held ? t`Held for preview` : t`Open to visitors`, state: live ? 'done' : 'now', says: site.held ? t`only by the link` : t`at its address`, act: <Hold site={site} /> },
    { title: t`Live`, state: live ? 'done' : 'later', says: live ? t`search engines and mail too` : t`search engines and mail wait`, act: !live && <GoLive site={site} /> },
    { title: t`Handed over`, state: opened ? 'done' : 'later', says: opened?.opened_at ? <><Trans>opened <When at={opened.opened_at} /></Trans></> : site.handovers?.length ? t`link not opened yet` : live ? t`no link yet` : t`when it is live` },
  ]
  return (
    <ol aria-label={t`Its life`} className="bg-sheet border border-line rounded-md mb-4 grid grid-cols-2 md:grid-cols-3 xl:grid-cols-5">
      {stages.map((s) => (
        <li key={s.title} className={cx('px-4 py-2.5 border-line border-r last:border-r-0 border-b xl:border-b-0', s.state === 'now' && 'bg-leaf-wash')}>
          <p className={cx('font-bold flex items-center gap-1.5', s.state === 'later' && 'text-soft')}>
            {s.state === 'done' && <Check size={14} className="text-leaf" aria-label={t`done:`} />}{s.title}
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
  const done = site.tasks.filter((task) => task.done_at).length
  return (
    <Sheet title={t`To do before it goes live`} aside={t`${done} of ${site.tasks.length} done`}>
      <div className="px-4"><Trouble error={tick.error} /></div>
      <ul className="pb-1">
        {site.tasks.map((task) => (
          <li key={task.key} className="px-4 py-1.5 flex flex-wrap gap-x-2.5 gap-y-1 border-t border-line">
            <input id={`task-${task.key}`} type="checkbox" className="mt-1 self-start accent-[var(--leaf)]" checked={!!task.done_at} disabled={tick.isPending || !!site.retired_at}
              onChange={(e) => tick.mutate({ site: site.name, key: task.key, done: e.target.checked })} />
            <label htmlFor={`task-${task.key}`} className="min-w-0 flex-1">
              <b className={task.done_at ? 'font-normal text-soft' : ''}>{task.title}</b>
              {task.done_at ? <span className="text-soft"> · {task.done_by}, <When at={task.done_at} /></span> : <span className="text-soft"> {task.detail}</span>}
            </label>
            {!task.done_at && !site.retired_at && <Due site={site.name} task={task} />}
            {!task.done_at && task.page && <ButtonLink small out to={task.page}><Trans>Open the page</Trans><OutIcon /></ButtonLink>}
          </li>
        ))}
      </ul>
    </Sheet>
  )
}

function Due({ site, task }: { site: string; task: Schemas['LaunchTask'] }) {
  const tick = useTick()
  return (
    <Ask small button={task.due ? t`by ${date(task.due)}` : t`By when…`} title={t`By when: ${task.title}`} action={t`Set it`} about={t`Today lists launch tasks in this order. Empty for no day.`}
      onSubmit={(f) => tick.mutateAsync({ site, key: task.key, done: false, due: text(f, 'due') || '0001-01-01' })}>
      <TextField label={t`Day`} name="due" type="date" defaultValue={task.due?.slice(0, 10)} />
    </Ask>
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
            <div key={what} className="h-36 overflow-hidden bg-sheet"><img src={picture(file!)} alt={what === 'source' ? t`Home page of the source` : t`Home page of the site`} className="block w-full" loading="lazy" /></div>
          ))}
        </div>
      )}
      <p className="px-4 py-2 flex items-center gap-3 justify-between">
        <span><b><Trans>Compare with source</Trans></b> {seen.data && <span className="text-soft"><Trans>seen <When at={seen.data.at} /></Trans></span>}</span>
        <ButtonLink small to={`/sites/${site.name}/side-by-side`}>{seen.data ? plural(seen.data.pages.length, { one: '# page', other: '# pages' }) : t`Look`}</ButtonLink>
      </p>
    </Sheet>
  )
}

function Login({ site: s }: { site: Site }) {
  return (
    <Sheet title={t`Login`}>
      <dl className="px-4 pb-3 grid grid-cols-[5rem_minmax(0,1fr)_auto] gap-y-1.5 gap-x-2 items-center">
        <dt className="text-soft"><Trans>At</Trans></dt><dd className="truncate"><Out href={s.login_at} /></dd><dd><Copy text={s.login_at} what={t`the address of the log-in`} /></dd>
        <dt className="text-soft"><Trans>As</Trans></dt><dd className="font-mono truncate">{s.admin}</dd><dd><Copy text={s.admin} what={t`the name`} /></dd>
        <dt className="text-soft"><Trans>Password</Trans></dt><dd className="col-span-2">{s.retired_at ? <span className="text-soft"><Trans>removed with the site</Trans></span> : <Reveal noun="site" owner={s.name} name="administrator" />}</dd>
        {s.kept?.users !== undefined && <dd className="col-span-3 text-soft"><Trans>The accounts that were there log in as before.</Trans></dd>}
      </dl>
    </Sheet>
  )
}

/** What it is made of and where, for whoever wants to know. */
function Details({ site: s }: { site: Site }) {
  const r = s.rewritten
  return (
    <Sheet title={t`Values and where they went`}>
      <Rows caption={t`Values`} rows={s.values} by={(v) => v.key} columns={[
        { head: t`Value`, cell: (v) => v.label },
        { head: '', grow: true, cell: (v) => <span className={cx('break-words', v.secret && 'text-soft')}>{shownValue(v.value)}</span> },
        { head: t`From`, cell: (v) => <span className="text-soft">{v.origin}</span> },
      ]} />
      <dl className="px-4 py-3 grid grid-cols-[8.5rem_minmax(0,1fr)] gap-y-1 border-t border-line">
        <dt className="text-soft"><Trans>Folder</Trans></dt><dd className="font-mono break-all">{s.folder}</dd>
        <dt className="text-soft"><Trans>Database</Trans></dt><dd>{s.database ? <><Trans><span className="font-mono">{s.database}</span>, <Plural value={s.rows} one="# row" other="# rows" /></Trans></> : t`none`}{s.prefix && <><Trans>, prefix <span className="font-mono">{s.prefix}</span></Trans></>}</dd>
        {!s.retired_at && s.lead && <><dt className="text-soft"><Trans>Name</Trans></dt><dd>{s.lead.sentence}<span className="text-soft"><Trans>, since {day(s.lead.since)}</Trans></span></dd></>}
        <dt className="text-soft"><Trans>Search engines</Trans></dt><dd>{s.visible ? t`let in` : t`kept out`}</dd>
        <dt className="text-soft"><Trans>Mail</Trans></dt><dd>{s.quiet ? t`kept from going out, as this is a preview` : t`goes out`}</dd>
        {s.install && <><dt className="text-soft"><Trans>Code</Trans></dt><dd><Trans>that of install <To to={`/installs/${s.install}`}>{s.install}</To>, which it shares with others</Trans></dd></>}
        <Descent site={s} />
        <dt className="text-soft"><Trans>Rewritten</Trans></dt><dd>{r.replaced > 0
          ? <Trans><Plural value={r.replaced} one="# place" other="# places" />: {inRow(Object.entries(r.forms ?? {}).map(([k, n]) => `${count(n)} ${k}`))}; {count(r.serialised)} of them inside serialised values.</Trans>
          : <Trans>Nothing named the old address or folder.</Trans>} {r.broken > 0 && plural(r.broken, { one: '# value was broken before and left as it is.', other: '# values were broken before and left as they are.' })}
          {r.samples && <details><summary className="text-soft"><Trans>Examples of each</Trans></summary>{r.samples.map((x) => <p key={x.where + x.before} className="font-mono text-[0.9rem] text-soft break-all"><Trans>{x.form}, in {x.where}: {x.before} → {x.after}</Trans></p>)}</details>}</dd>
        {s.kept && <><dt className="text-soft"><Trans>Kept</Trans></dt><dd>{Object.entries(s.kept).map(([k, n]) => t`${plural(n, { one: '# row', other: '# rows' })} of ${k}`).join(', ')}</dd></>}
        {s.upgraded && <><dt className="text-soft"><Trans>Upgraded</Trans></dt><dd><Trans>its tables to version {s.upgraded}, by the site itself</Trans></dd></>}
        {s.adjustments && <><dt className="text-soft"><Trans>Adjusted</Trans></dt><dd>{s.adjustments.join(' ')}</dd></>}
        <dt className="text-soft"><Trans>Steps</Trans></dt><dd>{s.steps.map((step) => `${said(step.name).toLowerCase()} ${millis(step.ms)}`).join(', ')}</dd>
      </dl>
    </Sheet>
  )
}

const pages: Record<string, string> = { release: 'releases', source: 'sources', site: 'sites' }

/** Where the site comes from: release, source, and, where that was provisioned itself, its site and so on. */
function Descent({ site }: { site: Site }) {
  return (
    <>
      <dt className="text-soft"><Trans>Origin</Trans></dt>
      <dd>{(site.descent ?? []).map((f, i) => (
        <span key={`${f.noun} ${f.name}`}>
          {i > 0 && ' ← '}{f.noun !== 'release' && `${called(f.noun)} `}{f.gone && f.noun === 'source' ? f.name : <To to={`/${pages[f.noun]}/${f.name}`}>{f.name}</To>}{f.gone && <span className="text-soft"><Trans> (gone)</Trans></span>}
        </span>
      ))}</dd>
    </>
  )
}

