import { Archive, EyeOff } from 'lucide-react'
import { useNavigate, useParams } from 'react-router'
import type { Site } from '../../api/client'
import { useCheck, useRetry, useSite, useTick } from '../../api/hooks'
import { Button, ButtonLink, Bytes, Empty, Head, Loading, Out, Rows, Sheet, Status, To, Trouble, Result } from '../../parts/basics'
import { count, day, millis, plural } from '../../parts/format'
import { Reveal } from '../vault/Reveal'
import { Checks } from './Checks'
import { HandOver } from './HandOver'
import { Names } from './Names'
import { HeldLine, Upkeep } from './Upkeep'

/** What to do about a site whose checks found faults. */
function MakeAgain({ site }: { site: Site }) {
  const retry = useRetry()
  const go = useNavigate()
  const starter = site.release.split('@')[0]
  if (site.retired_at || !site.report?.checks.some((c) => c.result === 'fail')) return null
  return (
    <div className="px-4 py-3 border-t border-line">
      <p className="text-soft mb-2">Correct what is wrong on the site and check it again; or correct the source or the packing list, build {starter} again, and make the site again. What stands there becomes a safety copy.</p>
      <Button disabled={retry.isPending} onClick={async () => go(`/runs/${(await retry.mutateAsync({ id: site.run_id, from: starter })).id}`)}>Make it again from the newest release</Button>
      <Trouble error={retry.error} />
    </div>
  )
}

export function SitePage() {
  const { name = '' } = useParams()
  const site = useSite(name)
  const check = useCheck()
  const go = useNavigate()
  if (site.isPending) return <Loading />
  if (!site.data) return <Trouble error={site.error} />
  const s = site.data
  const r = s.rewritten
  return (
    <>
      <Head title={s.title || s.name} beside={s.retired_at ? <Status tone="plain" icon={Archive}>retired {day(s.retired_at)}</Status> : <><Checks report={s.report} />{s.held && <Status tone="look" icon={EyeOff}>held</Status>}</>}
        facts={<><Out href={s.address} /><span>from <To to={`/releases/${s.release}`}>{s.release}</To>{s.behind > 0 && `, ${plural(s.behind, 'release')} behind`}</span><span>for <To to={`/clients/${s.client}`}>{s.client}</To></span><span>on {s.host}</span><span>made {day(s.made_at)} in <To to={`/runs/${s.run_id}`}>run {s.run_id}</To></span></>}>
        {!s.retired_at && <ButtonLink to={`/sites/${s.name}/side-by-side`}>Beside its source</ButtonLink>}
        {!s.retired_at && <Button primary onClick={async () => go(`/runs/${(await check.mutateAsync(name)).id}`)}>Check it now</Button>}
      </Head>
      <Trouble error={check.error} />
      <div className="grid grid-cols-[minmax(0,3fr)_minmax(0,2fr)] gap-4 items-start">
        <Sheet title="Checks" aside={s.report && `${s.report.pages} pages, ${day(s.report.at)}, in ${millis(s.report.took_ms)}`}>
          {!s.report ? <Empty>Not checked yet.</Empty> : (
            <ul>
              {s.report.checks.map((c) => (
                <li key={c.name} className="px-4 py-1.5 border-t border-line grid grid-cols-[4.6rem_10.5rem_1fr] gap-2 items-baseline">
                  <span><Result result={c.result} /></span><b>{c.name}</b>
                  <div className="min-w-0">{c.sentence}
                    {c.evidence?.map((e) => <p key={e} className="font-mono text-[0.9rem] text-soft break-all">{e}</p>)}
                    {c.remedy && <p className="text-soft">Remedy: {c.remedy}</p>}
                  </div>
                </li>
              ))}
            </ul>
          )}
          <MakeAgain site={s} />
        </Sheet>
        <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
          <Tasks site={s} />
          <Sheet title="Login">
            <dl className="px-4 pb-3 grid grid-cols-[6.5rem_1fr] gap-y-1 items-center">
              <dt className="text-soft">At</dt><dd><Out href={s.login_at} /></dd>
              <dt className="text-soft">As</dt><dd className="font-mono">{s.admin}</dd>
              <dt className="text-soft">Password</dt><dd>{s.retired_at ? <span className="text-soft">removed with the site</span> : <Reveal noun="site" owner={s.name} name="administrator" />}</dd>
              {s.kept?.users !== undefined && <dd className="col-span-2 text-soft">The accounts that were there log in as before.</dd>}
            </dl>
          </Sheet>
          {!s.retired_at && <HandOver site={s} />}
          <Upkeep site={s} />
          <Sheet title="What was set">
            <Rows caption="Values" rows={s.values} by={(v) => v.key} columns={[
              { head: 'Value', cell: (v) => v.label },
              { head: '', grow: true, cell: (v) => <span className={v.secret ? 'text-soft' : ''}>{v.value}</span> },
              { head: 'From', cell: (v) => <span className="text-soft">{v.origin}</span> },
            ]} />
          </Sheet>
          <Sheet title="Where it is">
            <dl className="px-4 pb-3 grid grid-cols-[6.5rem_1fr] gap-y-1">
              <dt className="text-soft">Folder</dt><dd className="font-mono break-all">{s.folder}</dd>
              <dt className="text-soft">Files</dt><dd>{count(s.files)}, <Bytes of={s.bytes} /></dd>
              <dt className="text-soft">Database</dt><dd>{s.database ? <><span className="font-mono">{s.database}</span>, {count(s.rows)} rows</> : 'none'}{s.prefix && <>, prefix <span className="font-mono">{s.prefix}</span></>}</dd>
              {!s.retired_at && s.lead && <><dt className="text-soft">Name</dt><dd>{s.lead.sentence}<span className="text-soft">, since {day(s.lead.since)}</span></dd></>}
              {!s.retired_at && <HeldLine site={s} />}
              <dt className="text-soft">Search engines</dt><dd>{s.visible ? 'let in' : 'kept out'}</dd>
              <dt className="text-soft">Mail</dt><dd>{s.quiet ? 'kept from going out, as this is a preview' : 'goes out'}</dd>
              {s.install && <><dt className="text-soft">Code</dt><dd>that of install <To to={`/installs/${s.install}`}>{s.install}</To>, which it shares with others</dd></>}
              <Descent site={s} />
              <dt className="text-soft">Rewritten</dt><dd>{count(r.replaced)} places{r.replaced > 0 && ': '}{Object.entries(r.forms ?? {}).map(([k, n]) => `${count(n)} ${k}`).join(', ')}; {count(r.serialised)} of them inside serialised values{r.broken > 0 && `; ${count(r.broken)} values were broken before and left as they are`}
                {r.samples && <details><summary className="cursor-pointer text-soft">Examples of each</summary>{r.samples.map((x) => <p key={x.where + x.before} className="font-mono text-[0.9rem] text-soft break-all">{x.form}, in {x.where}: {x.before} → {x.after}</p>)}</details>}</dd>
              {s.kept && <><dt className="text-soft">Kept</dt><dd>{Object.entries(s.kept).map(([k, n]) => `${count(n)} rows of ${k}`).join(', ')}</dd></>}
              {s.upgraded && <><dt className="text-soft">Upgraded</dt><dd>its tables to version {s.upgraded}, by the site itself</dd></>}
              {s.adjustments && <><dt className="text-soft">Adjusted</dt><dd>{s.adjustments.join(' ')}</dd></>}
              <dt className="text-soft">Steps</dt><dd>{s.steps.map((t) => `${t.name.toLowerCase()} ${millis(t.ms)}`).join(', ')}</dd>
            </dl>
          </Sheet>
          {!s.retired_at && <Names site={s.name} />}
        </div>
      </div>
    </>
  )
}

/** Where the site comes from: release, source, and, where that was provisioned itself, its site and so on. */
function Descent({ site }: { site: Site }) {
  const pages: Record<string, string> = { release: 'releases', source: 'sources', site: 'sites' }
  return (
    <>
      <dt className="text-soft">Descent</dt>
      <dd>{(site.descent ?? []).map((f, i) => <span key={`${f.noun} ${f.name}`}>{i > 0 && ' ← '}{f.noun !== 'release' && `${f.noun} `}{f.gone && f.noun === 'source' ? f.name : <To to={`/${pages[f.noun]}/${f.name}`}>{f.name}</To>}{f.gone && <span className="text-soft"> (gone)</span>}</span>)}</dd>
    </>
  )
}

/** What a person must still do on the site, until it is ticked off. */
function Tasks({ site }: { site: Site }) {
  const tick = useTick()
  if (site.tasks.length === 0) return null
  const open = site.tasks.filter((t) => !t.done_at).length
  return (
    <Sheet title="Launch tasks" aside={open === 0 ? 'all done' : `${open} to do`}>
      <Trouble error={tick.error} />
      <ul className="pb-2">
        {site.tasks.map((t) => (
          <li key={t.key} className="px-4 py-1.5 flex gap-2.5">
            <input id={`task-${t.key}`} type="checkbox" className="mt-1 self-start" checked={!!t.done_at} disabled={tick.isPending} onChange={(e) => tick.mutate({ site: site.name, key: t.key, done: e.target.checked })} />
            <label htmlFor={`task-${t.key}`} className="min-w-0">
              <b className={t.done_at ? 'line-through decoration-1' : ''}>{t.title}</b>
              {t.done_at ? <span className="block text-soft">{t.done_by}, {day(t.done_at)}</span> : <span className="block text-soft">{t.detail} {t.page && <Out href={t.page}>open</Out>}</span>}
            </label>
          </li>
        ))}
      </ul>
    </Sheet>
  )
}
