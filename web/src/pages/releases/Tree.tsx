import { ChevronDown, ChevronRight, Download } from 'lucide-react'
import { useDeferredValue, useState } from 'react'
import type { Schemas } from '../../api/client'
import { useContents } from '../../api/hooks'
import { Bytes, cx, Input, Loading, Sheet, SizeBar, Trouble } from '../../parts/basics'
import { count } from '../../parts/format'

type Node = Schemas['Node']

/** Contents of an archive, largest first; folders are read when they are opened. */
export function Tree({ release, selected, onSelect }: { release: string; selected: string; onSelect: (path: string) => void }) {
  const [find, setFind] = useState('')
  const wanted = useDeferredValue(find.trim())
  return (
    <Sheet>
      <div className="p-3 border-b border-line"><Input aria-label="Find in the archive" placeholder="Find, like *.jpg or uploads/2026/**" value={find} onChange={(e) => setFind(e.target.value)} /></div>
      {wanted ? <Found release={release} find={wanted} /> : (
        <ul className="max-h-[560px] overflow-auto py-1" aria-label="Contents"><Level release={release} path="" depth={0} most={0} selected={selected} onSelect={onSelect} /></ul>
      )}
    </Sheet>
  )
}

function Level({ release, path, depth, most, selected, onSelect }: { release: string; path: string; depth: number; most: number; selected: string; onSelect: (p: string) => void }) {
  const contents = useContents(release, path, '')
  if (contents.isPending) return <li className="px-4"><Loading /></li>
  if (!contents.data) return <li><Trouble error={contents.error} /></li>
  const top = most || contents.data.nodes[0]?.bytes || 0
  return contents.data.nodes.map((n) => <Branch key={n.path} {...{ release, n, depth, selected, onSelect }} most={top} />)
}

function Branch({ release, n, depth, most, selected, onSelect }: { release: string; n: Node; depth: number; most: number; selected: string; onSelect: (p: string) => void }) {
  const [open, setOpen] = useState(false)
  const Icon = open ? ChevronDown : ChevronRight
  return (
    <li>
      <div className={cx('flex items-center h-[28px] pr-3 gap-2', selected === n.path ? 'bg-leaf-wash' : 'hover:bg-leaf-wash/50')} style={{ paddingLeft: 10 + depth * 16 }}>
        {n.folder ? (
          <button type="button" aria-expanded={open} className="flex items-center gap-1 min-w-0 flex-1 text-left" onClick={() => { setOpen(!open); onSelect(n.path) }}>
            <Icon size={14} className="text-faint shrink-0" aria-hidden /><span className="truncate">{n.name}</span>
          </button>
        ) : <FileName release={release} n={n} />}
        {n.rows ? <span className="text-faint whitespace-nowrap">{count(n.rows)} rows</span> : null}
        <SizeBar bytes={n.bytes} most={most} area={n.area ?? ''} />
        <span className="w-16 text-right"><Bytes of={n.bytes} /></span>
      </div>
      {open && <ul><Level release={release} path={n.path} depth={depth + 1} {...{ most, selected, onSelect }} /></ul>}
    </li>
  )
}

function FileName({ release, n }: { release: string; n: Node }) {
  if (n.path.startsWith('database/')) return <span className="flex-1 truncate pl-[18px]">{n.name}</span>
  return (
    <a href={`/api/v1/releases/${release}/file?path=${encodeURIComponent(n.path)}`} target="_blank" rel="noreferrer" title={n.path}
      className="group flex items-center gap-1.5 flex-1 min-w-0 pl-[18px] hover:underline"><span className="truncate">{n.name}</span>{n.link && <span className="text-faint">→ {n.link}</span>}
      <Download size={12} className="opacity-0 group-hover:opacity-60 group-focus-visible:opacity-60" aria-hidden /></a>
  )
}

function Found({ release, find }: { release: string; find: string }) {
  const found = useContents(release, '', find)
  if (!found.data) return found.error ? <div className="px-3"><Trouble error={found.error} /></div> : <div className="px-4"><Loading /></div>
  const nodes = found.data.nodes
  return (
    <ul className="max-h-[560px] overflow-auto py-1">
      {nodes.length === 0 && <li className="px-4 text-soft">Nothing matches.</li>}
      {nodes.map((n) => (
        <li key={n.path} className="flex items-center h-[28px] px-3 gap-2 hover:bg-leaf-wash/50">
          <a className="flex-1 truncate font-mono text-[0.92rem] hover:underline" href={n.folder ? undefined : `/api/v1/releases/${release}/file?path=${encodeURIComponent(n.path)}`} target="_blank" rel="noreferrer">{n.path}{n.folder && '/'}</a>
          <SizeBar bytes={n.bytes} most={nodes[0]!.bytes} area={n.area ?? ''} width="w-16" /><span className="w-16 text-right"><Bytes of={n.bytes} /></span>
        </li>
      ))}
    </ul>
  )
}
