import { Check, CircleDashed, X } from 'lucide-react'
import { useState } from 'react'
import { useNavigate, useParams } from 'react-router'
import type { Release } from '../../api/client'
import { useBuild, usePacking, useReleases, useSetPacking, useStarter } from '../../api/hooks'
import { Ask, text } from '../../parts/Dialog'
import { Button, Bytes, Empty, Field, Head, Input, Loading, Rows, Sheet, SizeBar, Status, To, Trouble } from '../../parts/parts'
import { count, day, size } from '../../parts/say'

export function Verified({ release }: { release: Release }) {
  if (!release.verified_at) return <Status tone="plain" icon={CircleDashed}>not verified</Status>
  if (release.faults > 0) return <Status tone="wrong" icon={X}>{release.faults} faults</Status>
  return <Status tone="good" icon={Check}>verified</Status>
}

export function difference(r: Release): string {
  if (r.before_bytes === undefined) return 'first'
  const d = r.archive_bytes - r.before_bytes
  return `${d < 0 ? '−' : '+'}${size(Math.abs(d))}`
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
      <Head title={name} facts={<><span>from <To to={`/sources/${starter.data.source}`}>{starter.data.source}</To></span><span>since {day(starter.data.created_at)}</span></>}>
        <Ask button="Build a release" primary title={`Build ${name}@${(starter.data.newest ?? 0) + 1}`} about="The source is read as it is now. You can leave this page; the work goes on." action="Build"
          onSubmit={async (f) => { const run = await build.mutateAsync({ name, note: text(f, 'note') }); go(`/runs/${run.id}`) }}>
          <Field label="Note" hint="what is new in it">{(id) => <Input id={id} name="note" maxLength={500} />}</Field>
        </Ask>
      </Head>
      <div className="grid gap-4">
        <Sheet title="Releases">
          {rows.length === 0 ? <Empty>None yet. Build the first one.</Empty> : (
            <Rows caption="Releases" rows={rows} by={(r) => r.ref} columns={[
              { head: 'Release', cell: (r) => <To to={`/releases/${r.ref}`}>{r.ref}</To> },
              { head: 'Note', grow: true, cell: (r) => r.note },
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

/** The packing list as text, with what it would take of the source as it was surveyed. */
function Packing({ name }: { name: string }) {
  const packing = usePacking(name)
  const set = useSetPacking()
  const [draft, setDraft] = useState<string | null>(null)
  const p = packing.data
  if (!p) return <Trouble error={packing.error} />
  const saved = Object.entries(p.saved ?? {}).sort((a, b) => b[1].bytes + b[1].database_bytes - a[1].bytes - a[1].database_bytes)
  const mostSaved = Math.max(0, ...saved.map(([, s]) => s.bytes + s.database_bytes))
  return (
    <div className="grid grid-cols-[3fr_2fr] gap-4 items-start">
      <Sheet title={<label htmlFor="packing-list">Packing list</label>} aside="what goes in, stays out, is emptied and blanked">
        <div className="px-4 pb-4">
          <textarea id="packing-list" className="w-full h-[27rem] p-2 font-mono text-[0.9rem] leading-normal bg-bench border border-line-strong/60 rounded" spellCheck={false}
            value={draft ?? p.text} onChange={(e) => setDraft(e.target.value)} />
          <Trouble error={set.error} />
          <div className="flex justify-end gap-2 mt-2">
            <Button disabled={draft === null} onClick={() => setDraft(null)}>Put back as it was</Button>
            <Button disabled={draft === null || draft === p.text || set.isPending} onClick={() => set.mutate({ name, text: draft! }, { onSuccess: () => setDraft(null) })}>Save the list</Button>
          </div>
        </div>
      </Sheet>
      <Sheet title="What it would take">
        {!p.surveyed ? <Empty>The source was not surveyed yet, so there are no totals.</Empty> : (
          <>
            <dl className="px-4 pb-3 grid grid-cols-[auto_1fr] gap-x-4">
              <dt className="text-soft">Goes in</dt><dd>{count(p.in.files)} files <Bytes of={p.in.bytes} />, about {count(p.in.rows)} rows</dd>
              <dt className="text-soft">Stays out</dt><dd>{count(p.out.files)} files <Bytes of={p.out.bytes} />, about {count(p.out.rows)} rows</dd>
            </dl>
            {saved.length > 0 && <Rows caption="What each rule saves" rows={saved} by={([rule]) => rule} columns={[
              { head: 'Rule', grow: true, cell: ([rule]) => <span className="font-mono break-all">{rule}</span> },
              { head: '', cell: ([, s]) => <SizeBar bytes={s.bytes + s.database_bytes} most={mostSaved} width="w-16" /> },
              { head: 'Saves', right: true, cell: ([, s]) => <Bytes of={s.bytes + s.database_bytes} /> },
            ]} />}
            {p.problems.length > 0 && (
              <details className="px-4 py-3 border-t border-line"><summary>{p.problems.length} rules that do nothing here</summary>
                <ul className="mt-1 text-soft">{p.problems.map((x) => <li key={x.rule}><span className="font-mono">{x.rule}</span>: {x.why}</li>)}</ul>
              </details>
            )}
          </>
        )}
      </Sheet>
    </div>
  )
}
