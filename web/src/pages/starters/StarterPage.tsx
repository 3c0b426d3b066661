import { plural, t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { Ban, Check, CircleDashed, X } from 'lucide-react'
import { useNavigate, useParams } from 'react-router'
import type { Release, Starter } from '../../api/client'
import { useBuild, useChangeStarter, usePacking, useReleases, useRemoveStarter, useRetention, useSources, useStarter } from '../../api/hooks'
import { drafts } from '../../lib/drafts'
import { day } from '../../lib/format'
import { ButtonLink } from '../../parts/Button'
import { Ask, text } from '../../parts/Dialog'
import { SelectField, TextField, Tick } from '../../parts/Field'
import { Head } from '../../parts/Head'
import { To } from '../../parts/Links'
import { Rows } from '../../parts/Rows'
import { Empty, Loading, Shown, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { Bytes, SizeBar } from '../../parts/SizeBar'
import { Status } from '../../parts/Status'
import { When } from '../../parts/When'
import { Import } from '../releases/Import'
import { difference, retention } from './sentences'

export function Verified({ release }: { release: Release }) {
  if (!release.kept) return <Status tone="look" icon={Ban}><Trans>discarded</Trans></Status>
  if (!release.verified_at) return <Status tone="plain" icon={CircleDashed}><Trans>not verified</Trans></Status>
  if (release.faults > 0) return <Status tone="wrong" icon={X}>{plural(release.faults, { one: '# fault', other: '# faults' })}</Status>
  return <Status tone="good" icon={Check}><Trans>verified</Trans></Status>
}

export function StarterPage() {
  const { name = '' } = useParams()
  const starter = useStarter(name)
  const releases = useReleases(name)
  if (starter.isPending) return <Loading />
  if (!starter.data) return <><Head title={name} /><Trouble error={starter.error} /></>
  const s = starter.data
  return (
    <>
      <Head title={name} crumbs={[{ to: '/starters', label: t`Starters` }]}
        facts={<>{s.source ? <span><Trans>from <To to={`/sources/${s.source}`}>{s.source}</To></Trans></span> : <span><Trans>for releases that are imported</Trans></span>}<span><Trans>since {day(s.created_at)}</Trans></span><span>{retention(s)}</span></>}>
        {s.releases === 0 && <Remove name={name} />}
        <ChangeStarter starter={s} />
        <Retain starter={s} />
        <Import starter={name} primary={!s.source} />
        {s.source && <Build starter={s} />}
      </Head>
      <div className="grid gap-4 xl:grid-cols-[minmax(0,5fr)_minmax(0,3fr)] items-start">
        <Sheet title={t`Releases`}>
          <Shown of={releases}>{(rows) => rows.length === 0 ? <Empty><Trans>None yet. Build the first one.</Trans></Empty> : <Line releases={rows} />}</Shown>
        </Sheet>
        <Packing name={name} />
      </div>
    </>
  )
}

/** The line of releases as a history of sizes, with what made each larger or smaller. */
function Line({ releases }: { releases: Release[] }) {
  const most = Math.max(0, ...releases.map((r) => r.archive_bytes))
  return (
    <ol aria-label={t`Releases, the newest first`}>
      {releases.map((r) => (
        <li key={r.ref} className="px-4 py-2 border-t border-line grid grid-cols-[minmax(0,1fr)_auto] gap-x-4 gap-y-0.5 items-center">
          <p className="flex flex-wrap items-center gap-x-3"><To to={`/releases/${r.ref}`}>{r.ref}</To><Verified release={r} />
            <span className="text-soft"><Trans><When at={r.made} /> by {r.by}</Trans></span>{r.sites > 0 && <To to={`/sites?starter=${r.starter}`}>{plural(r.sites, { one: '# site', other: '# sites' })}</To>}</p>
          <p className="flex items-center gap-3"><span className="font-mono text-soft">{difference(r)}</span><SizeBar bytes={r.archive_bytes} most={most} /><span className="w-16 text-right"><Bytes of={r.archive_bytes} /></span></p>
          {(r.note || r.difference?.causes.length) && (
            <p className="text-soft col-span-2 break-words">{r.note && `“${r.note}” `}{r.difference?.causes.slice(0, 2).map((c) => c.sentence).join('; ')}</p>
          )}
        </li>
      ))}
    </ol>
  )
}

function Build({ starter }: { starter: Starter }) {
  const build = useBuild()
  const go = useNavigate()
  const unsaved = drafts.read<{ text: string }>(`packing ${starter.name}`) !== undefined
  return (
    <Ask asks="NewRelease" button={t`Build a release`} primary title={t`Build ${starter.name}@${(starter.newest ?? 0) + 1}`} action={t`Build`}
      about={t`The source is read as it is now; what did not change since the release before is copied from it. You can leave this page; the work goes on.`}
      onSubmit={async (f) => { const run = await build.mutateAsync({ name: starter.name, note: text(f, 'note'), full: f.get('full') !== null }); void go(`/runs/${run.id}`) }}>
      {unsaved && <p className="bg-amber-wash text-amber rounded px-3 py-2"><Trans>The packing list has edits that are not saved; this release would be built without them. <To to={`/starters/${starter.name}/packing`}>Save them first</To>.</Trans></p>}
      <TextField label={t`Note`} name="note" hint={t`what is new in it`} />
      <Tick name="full"><Trans>Read everything, also what did not change</Trans></Tick>
    </Ask>
  )
}

function Remove({ name }: { name: string }) {
  const remove = useRemoveStarter()
  const go = useNavigate()
  return (
    <Ask danger button={t`Remove…`} title={t`Remove starter ${name}`} action={t`Remove it`} about={t`It has no releases; its packing list is removed with it.`}
      onSubmit={async () => { await remove.mutateAsync(name); void go('/starters') }} />
  )
}

function ChangeStarter({ starter }: { starter: Starter }) {
  const sources = (useSources().data ?? []).filter((s) => s.kind === starter.kind)
  const change = useChangeStarter()
  return (
    <Ask button={t`Change…`} title={t`Change ${starter.name}`} about={t`Its packing list and its releases stay as they are; the next release is built from the source you choose.`} action={t`Change`}
      onSubmit={(f) => change.mutateAsync({ name: starter.name, source: text(f, 'source') })}>
      <SelectField label={t`Built from source`} name="source" required defaultValue={starter.source} choices={sources.map((s) => ({ value: s.name }))} />
    </Ask>
  )
}

function Retain({ starter }: { starter: Starter }) {
  const set = useRetention()
  return (
    <Ask asks="Retention" button={t`Keep archives…`} title={t`Which archives are kept`} about={t`Archives that a site was made from are always kept, and every release keeps its record. The rules are applied after each build and every hour.`} action={t`Keep these`}
      onSubmit={(f) => set.mutateAsync({ name: starter.name, last: Number(text(f, 'last')), weeks: Number(text(f, 'weeks')) })}>
      <TextField label={t`The last`} name="last" hint={t`archives to keep; 0 in both keeps all`} type="number" min={0} defaultValue={starter.retention.last} />
      <TextField label={t`One a week`} name="weeks" hint={t`for so many weeks besides`} type="number" min={0} defaultValue={starter.retention.weeks} />
    </Ask>
  )
}

/** What the packing list comes to, and the way to its editor. */
function Packing({ name }: { name: string }) {
  const packing = usePacking(name)
  return (
    <Sheet title={t`Packing list`} aside={<ButtonLink small to={`/starters/${name}/packing`}><Trans>Edit it</Trans></ButtonLink>}>
      <Shown of={packing}>{(p) => {
        const saved = Object.entries(p.saved).filter(([, s]) => s.bytes + s.database_bytes > 0).sort((a, b) => b[1].bytes + b[1].database_bytes - a[1].bytes - a[1].database_bytes)
        const most = saved[0] ? saved[0][1].bytes + saved[0][1].database_bytes : 0
        return (
          <>
            {p.surveyed ? (
              <dl className="px-4 pb-3 grid grid-cols-[auto_1fr] gap-x-4">
                <dt className="text-soft"><Trans>Goes in</Trans></dt><dd><Trans><Plural value={p.in.files} one="# file" other="# files" /> <Bytes of={p.in.bytes} />, about <Plural value={p.in.rows} one="# row" other="# rows" /> <Bytes of={p.in.database_bytes} /></Trans></dd>
                <dt className="text-soft"><Trans>Stays out</Trans></dt><dd><Trans><Plural value={p.out.files} one="# file" other="# files" /> <Bytes of={p.out.bytes} />, about <Plural value={p.out.rows} one="# row" other="# rows" /> <Bytes of={p.out.database_bytes} /></Trans></dd>
                <dt className="text-soft"><Trans>Asks for</Trans></dt><dd>{p.list.fields?.map((f) => f.label).join(', ') || t`nothing`}</dd>
              </dl>
            ) : <Empty><Trans>The source was not surveyed yet, so there are no totals.</Trans></Empty>}
            {saved.length > 0 && <Rows caption={t`What each rule saves`} rows={saved.slice(0, 6)} by={([rule]) => rule} columns={[
              { head: t`Rule`, grow: true, cell: ([rule]) => <span className="font-mono break-all">{rule}</span> },
              { head: '', cell: ([, s]) => <SizeBar bytes={s.bytes + s.database_bytes} most={most} width="w-16" /> },
              { head: t`Saves`, right: true, cell: ([, s]) => <Bytes of={s.bytes + s.database_bytes} /> },
            ]} />}
          </>
        )
      }}</Shown>
    </Sheet>
  )
}
