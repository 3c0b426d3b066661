import { useState } from 'react'
import { useNavigate, useParams } from 'react-router'
import type { Schemas } from '../../api/client'
import { useMap, useRelease, useVerify } from '../../api/hooks'
import { Areas } from '../../parts/Areas'
import { CompareWith } from './CompareWith'
import { Discard, Download } from './Keep'
import { Button, ButtonLink, Bytes, Head, Loading, Rows, Sheet, To, Trouble } from '../../parts/basics'
import { count, day, plural, size } from '../../parts/format'
import { SizeMap } from '../../parts/SizeMap'
import { changeSentence } from '../starters/sentences'
import { Verified } from '../starters/StarterPage'
import { Tree } from './Tree'

export function ReleasePage() {
  const { release: ref = '' } = useParams()
  const release = useRelease(ref)
  const verify = useVerify()
  const go = useNavigate()
  const [at, setAt] = useState('')
  const map = useMap(ref, at)
  if (release.isPending) return <Loading />
  if (!release.data) return <Trouble error={release.error} />
  const r = release.data
  const m = r.manifest!
  return (
    <>
      <Head title={<>{r.starter}<span className="text-leaf">@{r.number}</span></>} beside={<Verified release={r} />}
        facts={<><span><b className="text-ink">{day(r.made)}</b> by {r.by}</span>{r.imported_from ? <span>imported from {r.imported_from}</span> : <span>from <To to={`/sources/${r.source}`}>{r.source}</To></span>}<span>{r.kind_title} <b>{r.version}</b></span>
          <span><b>{count(r.totals.files)}</b> files</span><span><b>{r.totals.tables}</b> tables, <b>{count(r.totals.rows)}</b> rows</span>{r.note && <span>“{r.note}”</span>}</>}>
        <Button onClick={async () => go(`/runs/${(await verify.mutateAsync(ref)).id}`)}>Verify</Button>
        <CompareWith release={r} />
        {r.kept && <Discard release={r} />}
        {r.kept && <Download release={r} />}
        <ButtonLink primary to={`/sites/new?from=${encodeURIComponent(ref)}`}>Make a site from this</ButtonLink>
      </Head>
      <Trouble error={verify.error} />
      {r.discarded_at && <p className="text-amber bg-amber-wash rounded px-3 py-2 mb-4">Its archive was discarded {day(r.discarded_at)} {r.discarded_why}. What it held can still be looked at; sites need another release.</p>}
      <Sheet className="p-4 grid grid-cols-[auto_1fr_auto] gap-8 items-center mb-4">
        <div><p className="text-[1.35rem] font-bold whitespace-nowrap"><Bytes of={r.archive_bytes} /> <span className="font-normal text-[1rem] text-soft">archive</span></p><p className="text-soft"><Bytes of={r.totals.bytes + r.totals.sql_bytes} /> unpacked</p></div>
        <Areas areas={r.areas} />
        <p className="text-soft max-w-72">{changeSentence(r)}{r.difference?.causes.length ? <>{' '}Because of:<br />{r.difference.causes.map((c) => <span key={c.path} className="block break-words">{c.sentence}</span>)}</> : null}</p>
      </Sheet>
      <div className="grid grid-cols-[minmax(0,5fr)_minmax(0,6fr)] gap-4 items-start">
        <Tree release={ref} selected={at} onSelect={setAt} />
        <div className="grid gap-4">
          <Sheet className="p-1.5">
            <div className="flex items-center gap-2 px-1 pb-1.5 min-h-7"><Crumbs path={at} onOpen={setAt} /><span className="ml-auto font-mono">{map.data && size(map.data.bytes)}</span></div>
            {map.data && <SizeMap root={map.data} onOpen={setAt} />}
          </Sheet>
          <LeftOut m={m} sites={r.sites} />
        </div>
      </div>
    </>
  )
}

function Crumbs({ path, onOpen }: { path: string; onOpen: (p: string) => void }) {
  const parts = path.split('/').filter(Boolean)
  const link = 'font-semibold hover:underline'
  return (
    <nav aria-label="Place in the size map" className="flex items-center gap-1 min-w-0 overflow-hidden">
      <button type="button" className={link} onClick={() => onOpen('')}>everything</button>
      {parts.map((p, i) => <span key={p + i} className="flex gap-1"><span className="text-faint">/</span><button type="button" className={link} onClick={() => onOpen(parts.slice(0, i + 1).join('/'))}>{p}</button></span>)}
    </nav>
  )
}

function LeftOut({ m, sites }: { m: Schemas['Manifest']; sites: number }) {
  const left = [...m.left_out].sort((a, b) => b.bytes - a.bytes)
  const bytes = left.reduce((n, l) => n + l.bytes, 0)
  const settings = m.blanked.filter((b) => b.what.startsWith('setting ')).length
  return (
    <Sheet>
      <dl className="grid grid-cols-3 gap-4 px-4 py-3">
        <div><dt className="font-bold">Left out</dt><dd><Bytes of={bytes} /> by {plural(left.length, 'rule')}</dd></div>
        <div><dt className="font-bold">Blanked</dt><dd>{plural(settings, 'setting')}, {plural(m.blanked.length - settings, 'other value')}</dd></div>
        <div><dt className="font-bold">Sites</dt><dd>{plural(sites, 'site')} from this release</dd></div>
      </dl>
      <details className="border-t border-line"><summary className="px-4 py-2 font-semibold">All that was left out and blanked</summary>
        <Rows caption="Left out" rows={left} by={(l) => l.rule} columns={[
          { head: 'Left out by', grow: true, cell: (l) => <span className="font-mono">{l.rule}</span> },
          { head: 'Files', right: true, cell: (l) => count(l.files) },
          { head: 'Rows', right: true, cell: (l) => count(l.rows ?? 0) },
          { head: 'Size', right: true, cell: (l) => <Bytes of={l.bytes} /> },
        ]} />
        <Rows caption="Blanked" rows={m.blanked} by={(b) => b.what} columns={[
          { head: 'Blanked', grow: true, cell: (b) => <span className="font-mono">{b.what}</span> },
          { head: 'Times', right: true, cell: (b) => count(b.times) },
        ]} />
        {m.notes?.map((n) => <p key={n} className="px-4 py-1 text-soft">{n}</p>)}
      </details>
    </Sheet>
  )
}
