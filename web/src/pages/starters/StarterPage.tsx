import { Ban, Check, CircleDashed, X } from 'lucide-react'
import { useDeferredValue, useState } from 'react'
import { useNavigate, useParams } from 'react-router'
import type { Release, Starter } from '../../api/client'
import { useBuild, useChangeStarter, usePacking, useReleases, useRetention, useSetPacking, useSources, useStarter, useTryPacking } from '../../api/hooks'
import { Import } from '../releases/Import'
import { Ask, text } from '../../parts/Dialog'
import { Button, Bytes, Empty, Field, Head, Input, Loading, Rows, Select, Sheet, SizeBar, Status, To, Trouble } from '../../parts/basics'
import { count, day, plural } from '../../parts/format'
import { difference, retention } from './sentences'

export function Verified({ release }: { release: Release }) {
  if (!release.kept) return <Status tone="look" icon={Ban}>discarded</Status>
  if (!release.verified_at) return <Status tone="plain" icon={CircleDashed}>not verified</Status>
  if (release.faults > 0) return <Status tone="wrong" icon={X}>{release.faults} faults</Status>
  return <Status tone="good" icon={Check}>verified</Status>
}

export function StarterPage() {
  const { name = '' } = useParams()
  const starter = useStarter(name)
  const releases = useReleases(name)
  const build = useBuild()
  const go = useNavigate()
  if (starter.isPending) return <Loading />
  if (!starter.data) return <Trouble error={starter.error} />
  const rows = releases.data ?? []
  const most = Math.max(0, ...rows.map((r) => r.archive_bytes))
  return (
    <>
      <Head title={name} facts={<>{starter.data.source ? <span>from <To to={`/sources/${starter.data.source}`}>{starter.data.source}</To></span> : <span>for releases that are imported</span>}<span>since {day(starter.data.created_at)}</span><span>{retention(starter.data)}</span></>}>
        <ChangeStarter starter={starter.data} />
        <Retain starter={starter.data} />
        <Import starter={name} primary={!starter.data.source} />
        {starter.data.source && (
          <Ask button="Build a release" primary title={`Build ${name}@${(starter.data.newest ?? 0) + 1}`} about="The source is read as it is now; what did not change since the release before is copied from it. You can leave this page; the work goes on." action="Build"
            onSubmit={async (f) => { const run = await build.mutateAsync({ name, note: text(f, 'note'), full: f.get('full') !== null }); go(`/runs/${run.id}`) }}>
            <Field label="Note" hint="what is new in it">{(id) => <Input id={id} name="note" maxLength={500} />}</Field>
            <label className="flex gap-2 items-center"><input type="checkbox" name="full" />Read everything, also what did not change</label>
          </Ask>
        )}
      </Head>
      <div className="grid gap-4">
        <Sheet title="Releases">
          {rows.length === 0 ? <Empty>None yet. Build the first one.</Empty> : (
            <Rows caption="Releases" rows={rows} by={(r) => r.ref} columns={[
              { head: 'Release', cell: (r) => <To to={`/releases/${r.ref}`}>{r.ref}</To> },
              { head: 'Note', grow: true, cell: (r) => <span title={r.difference?.sentence}>{r.note}{r.difference?.causes[0] && <span className="text-soft">{r.note && ' · '}{r.difference.causes[0].sentence}</span>}</span> },
              { head: 'Sums', cell: (r) => <Verified release={r} /> },
              { head: 'By', cell: (r) => r.by },
              { head: 'Made', right: true, cell: (r) => day(r.made) },
              { head: 'Sites', right: true, cell: (r) => r.sites },
              { head: 'Files', right: true, cell: (r) => count(r.totals.files) },
              { head: 'Change', right: true, cell: difference },
              { head: '', cell: (r) => <SizeBar bytes={r.archive_bytes} most={most} /> },
              { head: 'Archive', right: true, cell: (r) => <Bytes of={r.archive_bytes} /> },
            ]} />
          )}
        </Sheet>
        <Packing name={name} />
      </div>
    </>
  )
}

function ChangeStarter({ starter }: { starter: Starter }) {
  const sources = (useSources().data ?? []).filter((s) => s.kind === starter.kind)
  const change = useChangeStarter()
  return (
    <Ask button="Change" title={`Change ${starter.name}`} about="Its packing list and its releases stay as they are; the next release is built from the source you choose." action="Change"
      onSubmit={(f) => change.mutateAsync({ name: starter.name, source: text(f, 'source') })}>
      <Field label="Built from source">{(id) => <Select id={id} name="source" required defaultValue={starter.source}>{sources.map((s) => <option key={s.name}>{s.name}</option>)}</Select>}</Field>
    </Ask>
  )
}

function Retain({ starter }: { starter: Starter }) {
  const set = useRetention()
  return (
    <Ask button="Keep archives…" title="Which archives are kept" about="Archives that a site was made from are always kept, and every release keeps its record. The rules are applied after each build and every hour." action="Keep these"
      onSubmit={(f) => set.mutateAsync({ name: starter.name, last: Number(text(f, 'last')), weeks: Number(text(f, 'weeks')) })}>
      <Field label="The last" hint="so many archives; 0 and 0 keeps all">{(id) => <Input id={id} name="last" type="number" min={0} defaultValue={starter.retention.last} />}</Field>
      <Field label="One a week" hint="for so many weeks besides">{(id) => <Input id={id} name="weeks" type="number" min={0} defaultValue={starter.retention.weeks} />}</Field>
    </Ask>
  )
}

/** The packing list as text, with what it would take of the source as it was surveyed; totals follow each change. */
function Packing({ name }: { name: string }) {
  const packing = usePacking(name)
  const set = useSetPacking()
  const [draft, setDraft] = useState<string | null>(null)
  const changed = draft !== null && draft !== packing.data?.text
  const tried = useTryPacking(name, useDeferredValue(changed ? draft : null))
  if (!packing.data) return <Trouble error={packing.error} />
  const p = (changed && tried.data) || packing.data
  const saved = Object.entries(p.saved ?? {}).filter(([, s]) => s.bytes + s.database_bytes + s.files + s.rows > 0).sort((a, b) => b[1].bytes + b[1].database_bytes - a[1].bytes - a[1].database_bytes)
  const mostSaved = Math.max(0, ...saved.map(([, s]) => s.bytes + s.database_bytes))
  return (
    <div className="grid grid-cols-[3fr_2fr] gap-4 items-start">
      <Sheet title={<label htmlFor="packing-list">Packing list</label>} aside="what goes in, stays out, is emptied and blanked">
        <div className="px-4 pb-4">
          <textarea id="packing-list" className="w-full h-[27rem] p-2 font-mono text-[0.9rem] leading-normal bg-bench border border-line-strong/60 rounded" spellCheck={false}
            value={draft ?? packing.data.text} onChange={(e) => setDraft(e.target.value)} />
          <Trouble error={set.error ?? (changed ? tried.error : null)} />
          <div className="flex justify-end gap-2 mt-2">
            <Button disabled={draft === null} onClick={() => setDraft(null)}>Put back as it was</Button>
            <Button disabled={!changed || tried.isError || set.isPending} onClick={() => set.mutate({ name, text: draft! }, { onSuccess: () => setDraft(null) })}>Save the list</Button>
          </div>
        </div>
      </Sheet>
      <Sheet title="What it would take" aside={changed ? 'as it is written here, not saved yet' : undefined}>
        {!p.surveyed ? <Empty>The source was not surveyed yet, so there are no totals.</Empty> : (
          <>
            <dl className="px-4 pb-3 grid grid-cols-[auto_1fr] gap-x-4" aria-live="polite">
              <dt className="text-soft">Goes in</dt><dd>{plural(p.in.files, 'file')} <Bytes of={p.in.bytes} />, about {count(p.in.rows)} rows <Bytes of={p.in.database_bytes} /></dd>
              <dt className="text-soft">Stays out</dt><dd>{plural(p.out.files, 'file')} <Bytes of={p.out.bytes} />, about {count(p.out.rows)} rows <Bytes of={p.out.database_bytes} /></dd>
            </dl>
            {saved.length > 0 && <Rows caption="What each rule saves" rows={saved} by={([rule]) => rule} columns={[
              { head: 'Rule', grow: true, cell: ([rule]) => <span className="font-mono break-all">{rule}</span> },
              { head: '', cell: ([, s]) => <SizeBar bytes={s.bytes + s.database_bytes} most={mostSaved} width="w-16" /> },
              { head: 'Saves', right: true, cell: ([, s]) => <Bytes of={s.bytes + s.database_bytes} /> },
            ]} />}
            {p.problems.length > 0 && (
              <details className="px-4 py-3 border-t border-line"><summary>{p.problems.length} rules that do nothing here or contradict</summary>
                <ul className="mt-1 text-soft">{p.problems.map((x) => <li key={x.rule + x.why}><span className="font-mono">{x.rule}</span>: {x.why}</li>)}</ul>
              </details>
            )}
          </>
        )}
      </Sheet>
    </div>
  )
}
