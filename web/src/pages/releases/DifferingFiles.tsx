import { plural, t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { ChevronDown, ChevronRight, Minus, Pencil, Plus } from 'lucide-react'
import { useState } from 'react'
import type { Schemas } from '../../api/client'
import { useFileDifference } from '../../api/hooks'
import { count } from '../../lib/format'
import { Button } from '../../parts/Button'
import { Empty, Shown } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { Status } from '../../parts/Status'
import { Delta, signed } from './Delta'
import { beside, folded, type Folded } from './folded'

type FileDelta = Schemas['FileDelta']
type Releases = { from: string; to: string }

const text = /\.(php|inc|module|twig|css|scss|js|mjs|json|html?|txt|md|xml|svg|ya?ml|ini|po|sql|conf|csv|htaccess)$|(^|\/)[^./]+$/i
const openAtOnce = 30 // files; more are folded

type FilesProps = { files: FileDelta[]; more: number; same?: number; between?: Releases }

/** Files that differ, folded by folder; of text files, the lines. Between which releases: none where one of them is a source. */
export function DifferingFiles({ files, more, same, between }: FilesProps) {
  const folders = folded(files)
  const most = Math.max(1, ...folders.map((f) => Math.abs(f.packed)))
  return (
    <Sheet title={t`Files`} aside={more > 0 ? t`the ${count(files.length)} largest of ${count(files.length + more)}` : plural(files.length, { one: '# file', other: '# files' })}>
      {files.length === 0 ? <Empty><Trans>All files are the same.</Trans></Empty> : (
        <ul aria-label={t`Files that differ`} className="pb-1">
          {folders.map((f, i) => <Folder key={f.folder} of={f} most={most} between={between} open={files.length <= openAtOnce || i === 0} />)}
        </ul>
      )}
      {same !== undefined && same > 0 && files.length > 0 && <p className="px-4 py-2 border-t border-line text-soft"><Trans><Plural value={same} one="# file is" other="# files are" /> the same in both.</Trans></p>}
    </Sheet>
  )
}

function Folder({ of, most, between, open: first }: { of: Folded; most: number; between?: Releases; open: boolean }) {
  const [open, setOpen] = useState(first)
  const Icon = open ? ChevronDown : ChevronRight
  const mostFile = Math.max(1, ...of.files.map((f) => Math.abs(f.packed)))
  return (
    <li className="border-t border-line">
      <div className="flex items-center gap-2 min-h-[28px] px-4 hover:bg-leaf-wash/50">
        <button type="button" aria-expanded={open} className="flex items-center gap-1 flex-1 min-w-0 text-left font-semibold" onClick={() => setOpen(!open)}>
          <Icon size={14} className="text-faint shrink-0" aria-hidden /><span className="truncate" title={of.folder}>{of.folder || t`the site’s own folder`}</span>
        </button>
        <span className="text-soft whitespace-nowrap">{plural(of.files.length, { one: '# file', other: '# files' })}</span>
        <span className="w-20 shrink-0"><Delta of={of.packed} most={most} area={of.files[0]!.area} /></span><span className="font-mono w-20 text-right shrink-0">{signed(of.packed)}</span>
      </div>
      {open && <ul>{of.files.map((f) => <File key={f.path} of={f} folder={of.folder} most={mostFile} between={between} />)}</ul>}
    </li>
  )
}

function File({ of: f, folder, most, between }: { of: FileDelta; folder: string; most: number; between?: Releases }) {
  const [lines, setLines] = useState(false)
  return (
    <li>
      <div className="flex items-center gap-2 min-h-[28px] pl-9 pr-4 hover:bg-leaf-wash/50">
        <span className="w-24 shrink-0"><Change change={f.change} /></span>
        <span className="font-mono text-[0.92rem] flex-1 min-w-0 truncate [direction:rtl] text-left" title={f.path}><bdi>{folder ? f.path.slice(folder.length + 1) : f.path}</bdi></span>
        {between && text.test(f.path) && <Button small aria-expanded={lines} aria-label={t`Lines of ${f.path}`} onClick={() => setLines(!lines)}><Trans>Lines</Trans></Button>}
        <span className="w-20 shrink-0"><Delta of={f.packed} most={most} area={f.area} /></span><span className="font-mono w-20 text-right shrink-0">{signed(f.packed)}</span>
      </div>
      {lines && between && <Lines between={between} path={f.path} />}
    </li>
  )
}

function Change({ change }: { change: string }) {
  switch (change) {
    case 'added': return <Status tone="plain" icon={Plus}><Trans>added</Trans></Status>
    case 'removed': return <Status tone="plain" icon={Minus}><Trans>removed</Trans></Status>
  }
  return <Status tone="plain" icon={Pencil}><Trans>changed</Trans></Status>
}

const mostPlaces = 200

/** The lines of a text file that differ, side by side. */
function Lines({ between, path }: { between: Releases; path: string }) {
  const difference = useFileDifference(between.from, between.to, path)
  return (
    <div className="mx-4 mb-2 border border-line rounded overflow-hidden">
      <Shown of={difference}>{(d) => d.places.length === 0 ? <p className="px-3 py-2 text-soft"><Trans>The lines are the same; what differs is how they end.</Trans></p> : (
        <div className="max-h-[60vh] overflow-auto font-mono text-[0.88rem] leading-snug" tabIndex={0} role="region" aria-label={t`Lines of ${path} that differ`}>
          <table className="w-full table-fixed border-collapse">
            <caption className="sr-only"><Trans>Lines of {path} that differ: <Plural value={d.removed} one="# line" other="# lines" /> removed, {count(d.added)} added</Trans></caption>
            <thead className="sticky top-0 bg-sheet"><tr>
              <th scope="col" className="text-left font-semibold px-3 py-1 border-b border-line">{between.from}</th>
              <th scope="col" className="text-left font-semibold px-3 py-1 border-b border-l border-line">{between.to}</th>
            </tr></thead>
            {d.places.slice(0, mostPlaces).map((p) => (
              <tbody key={`${p.before} ${p.after}`} className="border-t border-line">
                <tr className="text-faint"><td className="px-3"><Trans>line {p.before}</Trans></td><td className="px-3 border-l border-line"><Trans>line {p.after}</Trans></td></tr>
                {beside(p.lines).map((pair, i) => (
                  <tr key={i} className="align-top">
                    <Line text={pair.before} changed={!pair.same} look="bg-clay-wash" />
                    <Line text={pair.after} changed={!pair.same} look="bg-leaf-wash border-l border-line" same="border-l border-line" />
                  </tr>
                ))}
              </tbody>
            ))}
          </table>
          {d.places.length > mostPlaces && <p className="px-3 py-2 text-soft"><Trans>And {count(d.places.length - mostPlaces)} more places.</Trans></p>}
        </div>
      )}</Shown>
    </div>
  )
}

function Line({ text, changed, look, same = '' }: { text?: string; changed: boolean; look: string; same?: string }) {
  return <td className={`px-3 whitespace-pre-wrap break-words ${changed && text !== undefined ? look : same}`}>{text}</td>
}
