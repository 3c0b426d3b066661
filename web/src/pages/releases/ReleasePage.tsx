import { plural, t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { useParams } from 'react-router'
import type { Schemas } from '../../api/client'
import { useMap, useMe, useRelease, useVerify } from '../../api/hooks'
import { useAddressValue } from '../../lib/address'
import { count, size } from '../../lib/format'
import { useFollow } from '../../lib/useFollow'
import { Areas } from '../../parts/Areas'
import { Button, ButtonLink } from '../../parts/Button'
import { Head } from '../../parts/Head'
import { To } from '../../parts/Links'
import { Rows } from '../../parts/Rows'
import { Loading, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { Bytes } from '../../parts/SizeBar'
import { SizeMap } from '../../parts/SizeMap'
import { When } from '../../parts/When'
import { Remedy } from '../sources/Remedy'
import { leavesOut } from '../sources/remedy'
import { changeSentence } from '../starters/sentences'
import { Verified } from '../starters/StarterPage'
import { CompareWith } from './CompareWith'
import { Discard, Download } from './Keep'
import { Preview } from './Preview'
import { Tree } from './Tree'

const folderOf = (path: string) => path.slice(0, Math.max(0, path.lastIndexOf('/')))

/** What is in a release: map, tree and preview show the same place, which is in the address. */
export function ReleasePage() {
  const { release: ref = '' } = useParams()
  const release = useRelease(ref)
  const mayBuild = useMe().data?.role !== 'viewer'
  const verify = useVerify()
  const { start } = useFollow()
  const [at, setAt] = useAddressValue('at')
  const [file, setFile] = useAddressValue('file')
  const folder = file ? folderOf(file) : at
  const map = useMap(ref, folder)
  const open = (path: string, isFolder: boolean) => {
    if (isFolder) {
      setFile('')
      setAt(path)
    } else setFile(path)
  }
  if (release.isPending) return <Loading />
  if (!release.data) return <><Head title={ref} /><Trouble error={release.error} /></>
  const r = release.data
  const m = r.manifest!
  const place = file || (at === 'database' ? '' : at) // a table, or the whole of the database's, is emptied by itself
  return (
    <>
      <Head title={<>{r.starter}<span className="text-leaf">@{r.number}</span></>} plain={r.ref} beside={<Verified release={r} />}
        crumbs={[{ to: '/starters', label: t`Starters` }, { to: `/starters/${r.starter}`, label: r.starter }]}
        facts={<><span><Trans><b className="text-ink"><When at={r.made} /></b> by {r.by}</Trans></span>{r.imported_from ? <span><Trans>imported from {r.imported_from}</Trans></span> : <span><Trans>from <To to={`/sources/${r.source}`}>{r.source}</To></Trans></span>}<span>{r.kind_title} <b>{r.version}</b></span>
          <span><Trans><b>{count(r.totals.files)}</b> files</Trans></span><span><Trans><b>{r.totals.tables}</b> tables, <b>{count(r.totals.rows)}</b> rows</Trans></span>{r.sites > 0 && <To to={`/sites?starter=${r.starter}`}>{plural(r.sites, { one: '# site', other: '# sites' })}</To>}{r.note && <span>“{r.note}”</span>}</>}>
        {r.kept && <Button disabled={verify.isPending} onClick={() => start(verify.mutateAsync(ref))}><Trans>Verify</Trans></Button>}
        <CompareWith release={r} />
        {r.kept && <Discard release={r} />}
        {r.kept && mayBuild && <Download release={r} />}
        {r.kept && <ButtonLink primary to={`/sites/new?from=${encodeURIComponent(ref)}`}><Trans>Make a site from this</Trans></ButtonLink>}
      </Head>
      <Trouble error={verify.error} />
      {r.discarded_at && <p className="text-amber bg-amber-wash rounded px-3 py-2 mb-4"><Trans>Its archive was discarded <When at={r.discarded_at} /> {r.discarded_why}. What it held can still be looked at; sites need another release.</Trans></p>}
      <Sheet className="p-4 grid md:grid-cols-[auto_minmax(0,1fr)_auto] gap-x-8 gap-y-3 items-center mb-4">
        <div><p className="text-[1.35rem] font-bold whitespace-nowrap"><Bytes of={r.archive_bytes} /> <span className="font-normal text-[1rem] text-soft"><Trans>archive</Trans></span></p><p className="text-soft"><Trans><Bytes of={r.totals.bytes + r.totals.sql_bytes} /> unpacked</Trans></p></div>
        <Areas areas={r.areas} />
        <p className="text-soft max-w-72">{changeSentence(r)}{r.difference?.causes.length ? <>{' '}<Trans>Because of:</Trans>{r.difference.causes.map((c) => <span key={c.path} className="block break-words">{c.sentence}</span>)}</> : null}</p>
      </Sheet>
      <div className="grid lg:grid-cols-[minmax(0,5fr)_minmax(0,6fr)] gap-4 items-start">
        <Tree release={ref} selected={file || at} onSelect={open} />
        <div className="grid gap-4 min-w-0">
          {file && r.kept && <Preview release={ref} path={file} onClose={() => setFile('')} />}
          <Sheet className="p-1.5">
            <div className="flex items-center gap-2 px-1 pb-1.5 min-h-7"><Crumbs path={folder} onOpen={(p) => open(p, true)} /><span className="ml-auto font-mono">{map.data && size(map.data.bytes)}</span></div>
            {place && r.source && <div className="px-1 pb-1.5"><Remedy starter={r.starter} edit={leavesOut(place, !file, m.origin.prefix)} word={t`Leave this out of the next`} /></div>}
            <Trouble error={map.error} />
            {map.data && <SizeMap root={map.data} onOpen={open} />}
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
    <nav aria-label={t`Place in the size map`} className="flex items-center gap-1 min-w-0 overflow-hidden">
      <button type="button" className={link} onClick={() => onOpen('')}><Trans>everything</Trans></button>
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
        <div><dt className="font-bold"><Trans>Left out</Trans></dt><dd><Trans><Bytes of={bytes} /> by <Plural value={left.length} one="# rule" other="# rules" /></Trans></dd></div>
        <div><dt className="font-bold"><Trans>Blanked</Trans></dt><dd>{plural(settings, { one: '# setting', other: '# settings' })}, {plural(m.blanked.length - settings, { one: '# other value', other: '# other values' })}</dd></div>
        <div><dt className="font-bold"><Trans>Sites</Trans></dt><dd><Trans><Plural value={sites} one="# site" other="# sites" /> from this release</Trans></dd></div>
      </dl>
      <details className="border-t border-line"><summary className="px-4 py-2 font-semibold"><Trans>All that was left out and blanked</Trans></summary>
        <Rows caption={t`Left out`} rows={left} by={(l) => l.rule} columns={[
          { head: t`Left out by`, grow: true, cell: (l) => <span className="font-mono">{l.rule}</span> },
          { head: t`Files`, right: true, cell: (l) => count(l.files) },
          { head: t`Rows`, right: true, cell: (l) => count(l.rows ?? 0) },
          { head: t`Size`, right: true, cell: (l) => <Bytes of={l.bytes} /> },
        ]} />
        <Rows caption={t`Blanked`} rows={m.blanked} by={(b) => b.what} columns={[
          { head: t`Blanked`, grow: true, cell: (b) => <span className="font-mono">{b.what}</span> },
          { head: t`Times`, right: true, cell: (b) => count(b.times) },
        ]} />
        {m.notes?.map((n) => <p key={n} className="px-4 py-1 text-soft">{n}</p>)}
      </details>
    </Sheet>
  )
}
