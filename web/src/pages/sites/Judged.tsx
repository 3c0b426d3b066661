import { plural, t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { Check, ChevronDown } from 'lucide-react'
import type { Schemas, Site } from '../../api/client'
import { useCheck, useFullCheck, useRetry, useUnacceptCheck } from '../../api/hooks'
import { day, millis } from '../../lib/format'
import { said } from '../../lib/said'
import { useFollow } from '../../lib/useFollow'
import { Button } from '../../parts/Button'
import { To } from '../../parts/Links'
import { Empty, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { Result, Status } from '../../parts/Status'
import { When } from '../../parts/When'
import { AcceptButton } from '../today/Today'

type Judgement = Schemas['Check']

const questions = (): [NonNullable<Judgement['group']>, string][] => [
  ['up', t`Is it up?`], ['own', t`Is it the client's own?`], ['old', t`Is anything left of what it came from?`],
  ['public', t`Is it private or public, as asked?`], ['mail', t`Do its mails go where they should?`], ['details', t`Everything else`],
]

/** The checks, by the questions that people ask. A question with something open is unfolded, the others are folded. */
export function Judged({ site }: { site: Site }) {
  const check = useCheck()
  const full = useFullCheck()
  const busy = check.isPending || full.isPending
  const { start } = useFollow()
  const r = site.report
  const groups = questions().map(([key, title]) => ({ key, title, checks: r?.checks.filter((c) => (c.group ?? 'details') === key) ?? [] })).filter((g) => g.checks.length > 0)
  return (
    <Sheet id="checks" title={t`Checks`} aside={<span className="flex flex-wrap items-center gap-3">
      {r && <span>{r.like
        ? <Trans><Plural value={r.pages} one="# page" other="# pages" />, the others on <To to={`/sites/${r.like}`}>{r.like}</To>, <When at={r.at} />, in {millis(r.took_ms)}</Trans>
        : <Trans><Plural value={r.pages} one="# page" other="# pages" />, <When at={r.at} />, in {millis(r.took_ms)}</Trans>}</span>}
      {!site.retired_at && r?.waiting && <Button small disabled={busy} onClick={() => start(full.mutateAsync(site.name))}><Trans>Check all pages</Trans></Button>}
      {!site.retired_at && <Button small disabled={busy} onClick={() => start(check.mutateAsync(site.name))}><Trans>Check it now</Trans></Button>}
    </span>}>
      <div className="px-4"><Trouble error={check.error} /></div>
      {!r ? <Empty><Trans>Not checked yet.</Trans></Empty> : groups.map((g) => <Question key={g.key} site={site} title={g.title} checks={g.checks} />)}
      <MakeAgain site={site} />
    </Sheet>
  )
}

const accepted = (site: Site, c: Judgement) => c.result === 'pass' ? undefined : site.accepted?.find((a) => a.what === c.name)

function Question({ site, title, checks }: { site: Site; title: string; checks: Judgement[] }) {
  const open = checks.filter((c) => c.result !== 'pass' && !accepted(site, c))
  const worst = open.some((c) => c.result === 'fail') ? 'fail' : open.length > 0 ? 'warn' : 'pass'
  const rest = checks.filter((c) => !open.includes(c))
  const known = rest.filter((c) => c.in_source || accepted(site, c)).length
  return (
    <details className="group border-t border-line" open={open.length > 0}>
      <summary className="px-4 py-2 flex flex-wrap gap-x-3 items-baseline cursor-pointer">
        <span className="w-16 shrink-0"><Result result={worst} /></span><b className="flex-1 min-w-[10rem]">{title}</b>
        <span className="text-soft">{open.length > 0 ? t`${open.length} of ${checks.length} to look at` : plural(checks.length, { one: '# check', other: '# checks' })}{known > 0 && <>, <Trans>{known} known</Trans></>}</span>
        <ChevronDown size={15} className="self-center text-soft group-open:rotate-180" aria-hidden />
      </summary>
      <ul>{[...open, ...rest].map((c) => <One key={c.name} site={site} check={c} />)}</ul>
    </details>
  )
}

function One({ site, check: c }: { site: Site; check: Judgement }) {
  const unaccept = useUnacceptCheck()
  const of = accepted(site, c)
  return (
    <li className="px-4 py-1.5 border-t border-line flex flex-wrap gap-x-3 gap-y-1 items-baseline">
      <span className="w-16 shrink-0">{of ? <Status tone="plain" icon={Check}><Trans>known</Trans></Status> : <Result result={c.result} />}</span>
      <div className="min-w-0 flex-[1_1_18rem]">
        <b>{said(c.name)}</b> {c.sentence}
        {c.evidence?.map((e) => <p key={e} className="font-mono text-[0.9rem] text-soft break-all">{e}</p>)}
        {c.in_source && <details><summary className="text-soft"><Trans>Also in the source: {c.in_source.count}</Trans></summary>
          {c.in_source.evidence?.map((e) => <p key={e} className="font-mono text-[0.9rem] text-soft break-all">{e}</p>)}</details>}
        {of ? <p className="text-soft">{of.reason} ({[of.who, day(of.at), of.until && t`until ${day(of.until)}`, of.everywhere && t`for all sites of the starter`].filter(Boolean).join(', ')})</p>
          : c.remedy && <p className="text-soft"><Trans>What to do: {c.remedy}</Trans></p>}
        {c.how && c.result === 'pass' && <p className="text-soft">{c.how}</p>}
      </div>
      {of && <Button small disabled={unaccept.isPending} onClick={() => unaccept.mutate({ site: site.name, what: c.name })}><Trans>Stop accepting</Trans></Button>}
      {!of && c.result !== 'pass' && !site.retired_at && <AcceptButton noun="site" name={site.name} what={c.name} />}
    </li>
  )
}

/** What to do about a site whose checks found faults. */
function MakeAgain({ site }: { site: Site }) {
  const retry = useRetry()
  const { start } = useFollow()
  const starter = site.release.split('@')[0]
  if (site.retired_at || !site.report?.checks.some((c) => c.result === 'fail' && !accepted(site, c))) return null
  return (
    <div className="px-4 py-3 border-t border-line">
      <p className="text-soft mb-2"><Trans>Correct what is wrong on the site and check it again; or correct the source or the packing list, build {starter} again, and make the site again. What stands there becomes a safety copy.</Trans></p>
      <Button disabled={retry.isPending} onClick={() => start(retry.mutateAsync({ id: site.run_id, from: starter }))}><Trans>Make it again from the newest release</Trans></Button>
      <Trouble error={retry.error} />
    </div>
  )
}
