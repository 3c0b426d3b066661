import { plural, t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { useNavigate, useParams } from 'react-router'
import type { Schemas } from '../../api/client'
import { useChangeHost, useHost, useInstalls, useRemoveHost, useSitePage, useSources, useTestHost } from '../../api/hooks'
import { day, size } from '../../lib/format'
import { said } from '../../lib/said'
import { Button } from '../../parts/Button'
import { Copy } from '../../parts/Copy'
import { Ask, text } from '../../parts/Dialog'
import { Textarea } from '../../parts/Field'
import { Head } from '../../parts/Head'
import { Out, To } from '../../parts/Links'
import { Empty, Loading, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { Result } from '../../parts/Status'
import { When } from '../../parts/When'
import { Checks } from '../sites/Checks'
import { entered, HostFields } from './HostFields'

/** A host: its facts, what it shows when it is tried, what is on it. */
export function HostPage() {
  const { name = '' } = useParams()
  const host = useHost(name)
  const test = useTestHost()
  if (host.isPending) return <Loading />
  if (!host.data) return <><Head title={name} /><Trouble error={host.error} /></>
  const h = host.data
  return (
    <>
      <Head title={h.name} crumbs={[{ to: '/hosts', label: t`Hosts` }]} facts={<>
        <span className="font-mono break-all">{h.files}</span>
        {h.runtimes?.map((r) => <span key={r.name} title={t`as it told on ${day(r.asked_at)}, with ${r.parts.join(', ')}`}>{r.name} <b>{r.version}</b></span>)}
      </>}>
        <RemoveHost name={h.name} />
        <ChangeHost host={h} />
        <Button primary disabled={test.isPending} onClick={() => test.mutate(h.name)}><Trans>Test it</Trans></Button>
      </Head>
      <Trouble error={test.error} />
      {test.isPending && <p role="status" className="text-soft mb-3"><Trans>It is being tried, step by step …</Trans></p>}
      <div className="grid gap-4 lg:grid-cols-2 items-start">
        <div className="grid gap-4 min-w-0">
          {test.data && <Shows steps={test.data.steps} />}
          {test.data?.files && <Recommended host={h.name} files={test.data.files} tested={() => test.mutate(h.name)} />}
          <Room host={h} />
          <Facts host={h} />
        </div>
        <OnIt host={h.name} />
      </div>
    </>
  )
}

/** What is free on a host, and what its sites take up. */
function Room({ host: { room, use } }: { host: Schemas['Host'] }) {
  const free = room?.free_bytes
  const more = free !== undefined && use && use.largest > 0 ? Math.floor(free / use.largest) : undefined
  return (
    <Sheet title={t`Disk space`} aside={room && <><Trans>looked at <When at={room.at} /></Trans></>}>
      <div className="px-4 pb-3 grid gap-1.5">
        {!room && <p className="text-soft"><Trans>Nobody has looked yet: test the host.</Trans></p>}
        {room?.trouble && <p className="text-clay break-words"><Trans>It could not be reached: {room.trouble}</Trans></p>}
        {room && !room.trouble && free === undefined && <p className="text-soft"><Trans>The host does not tell how much is free.</Trans></p>}
        {free !== undefined && <p><Trans><b className="text-[1.2rem] font-mono">{size(free)}</b> free</Trans></p>}
        {use && use.sites > 0 && <p><Trans><Plural value={use.sites} one="# site" other="# sites" /> of <b>{size(use.bytes)}</b>, the largest {size(use.largest)}.{more !== undefined && ` ${more === 0 ? t`Another like that does not fit.` : more > 999 ? t`A thousand more like that fit.` : `${plural(more, { one: '# more like that fits', other: '# more like that fit' })}.`}`}</Trans></p>}
      </div>
    </Sheet>
  )
}

function Facts({ host: h }: { host: Schemas['Host'] }) {
  const facts: [string, string | undefined][] = [
    [t`Web root of a site`, h.web_root], [t`Address of a site`, h.address], [t`Database`, h.database.replaceAll(' ', '\n')], [t`Checks connect to`, h.connect], [t`Host key`, h.host_key],
  ]
  return (
    <Sheet title={t`What it is`}>
      <dl className="px-4 pb-3 grid grid-cols-[9rem_minmax(0,1fr)] gap-y-1">
        {facts.map(([what, value]) => value && <div key={what} className="contents"><dt className="text-soft">{what}</dt><dd className="font-mono break-all whitespace-pre-line">{value}</dd></div>)}
      </dl>
    </Sheet>
  )
}

/** The address of files that a test recommends, to change the host to. */
function Recommended({ host, files, tested }: { host: string; files: string; tested: () => void }) {
  const change = useChangeHost()
  return (
    <Sheet title={t`Recommended files address`}>
      <div className="px-4 py-3 grid gap-2">
        <p className="font-mono break-all">{files}</p>
        <p><Button disabled={change.isPending} onClick={() => change.mutate({ name: host, files }, { onSuccess: tested })}><Trans>Apply and test again</Trans></Button></p>
        <Trouble error={change.error} />
      </div>
    </Sheet>
  )
}

/** Each step of a test with its evidence, and what to send to the hosting company where something is missing. */
function Shows({ steps }: { steps: Schemas['Check'][] }) {
  const ask = steps.flatMap((s) => s.remedy ? [s.remedy] : [])
  const letter = ask.map((a) => `- ${a}`).join('\n')
  return (
    <Sheet title={t`Test results`} aside={plural(steps.length, { one: '# step', other: '# steps' })}>
      <ul role="status">
        {steps.map((s) => (
          <li key={s.name} className="px-4 py-1.5 border-t border-line flex gap-3 items-baseline">
            <span className="w-16 shrink-0"><Result result={s.result} /></span>
            <div className="min-w-0 break-words"><b>{said(s.name)}</b> {s.sentence}{s.evidence?.map((e) => <span key={e} className="block text-soft">{e}</span>)}</div>
          </li>
        ))}
      </ul>
      {ask.length > 0 && (
        <div className="px-4 py-3 border-t border-line grid gap-2">
          <p className="flex items-center justify-between"><b><Trans>Ask the hosting company</Trans></b><Copy text={letter} what={t`what to ask`} /></p>
          <Textarea readOnly aria-label={t`What to ask the hosting company`} rows={Math.min(8, ask.length * 2)} value={letter} />
        </div>
      )}
    </Sheet>
  )
}

function OnIt({ host }: { host: string }) {
  const sites = useSitePage({ host, limit: 50, sort: 'attention' })
  const sources = (useSources().data ?? []).filter((s) => s.host === host)
  const installs = (useInstalls().data ?? []).filter((i) => i.host === host)
  const p = sites.data
  return (
    <Sheet title={t`On this host`} aside={p && <To to={`/sites?host=${host}`}>{plural(p.total, { one: '# site', other: '# sites' })}</To>}>
      {p && p.total === 0 && sources.length === 0 && installs.length === 0 && <Empty><Trans>Nothing yet.</Trans></Empty>}
      <ul>
        {sources.map((s) => <li key={s.name} className="px-4 py-1 border-t border-line flex gap-3"><span className="text-soft w-16"><Trans>source</Trans></span><To to={`/sources/${s.name}`}>{s.name}</To><span className="font-mono text-soft truncate">{s.path}</span></li>)}
        {installs.map((i) => <li key={i.name} className="px-4 py-1 border-t border-line flex gap-3"><span className="text-soft w-16"><Trans>install</Trans></span><To to={`/installs/${i.name}`}>{i.name}</To><span className="text-soft">{plural(i.tenants, { one: '# site', other: '# sites' })}</span></li>)}
        {p?.sites.map((s) => (
          <li key={s.name} className="px-4 py-1 border-t border-line flex gap-3 items-center min-h-8">
            <span className="text-soft w-16"><Trans>site</Trans></span><To to={`/sites/${s.name}`}>{s.title || s.name}</To><span className="truncate flex-1 min-w-0"><Out href={s.address} /></span><Checks counts={s.checks} />
          </li>
        ))}
      </ul>
    </Sheet>
  )
}

function ChangeHost({ host }: { host: Schemas['Host'] }) {
  const change = useChangeHost()
  return (
    <Ask asks="ChangedHost" button={t`Change…`} title={t`Change ${host.name}`} action={t`Change`}
      about={t`It is tried at once, and nothing is changed unless every site and source on it is found there. Sites that are made already keep their folders and addresses.`}
      onSubmit={(f) => change.mutateAsync({ name: host.name, ...entered(f), connect: text(f, 'connect'), new_host_key: f.get('new_host_key') === 'on' || undefined })}>
      <HostFields of={host} />
    </Ask>
  )
}

function RemoveHost({ name }: { name: string }) {
  const remove = useRemoveHost()
  const go = useNavigate()
  return (
    <Ask danger button={t`Remove…`} title={t`Remove host ${name}`} action={t`Remove it`} about={t`It is forgotten here, with its passwords and keys. What is on it is not touched. A host with sites or sources stays.`}
      onSubmit={async () => { await remove.mutateAsync(name); void go('/hosts') }} />
  )
}
