import { plural, t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { ChevronDown, ChevronRight } from 'lucide-react'
import { useDeferredValue, useEffect, useState } from 'react'
import type { Schemas } from '../../api/client'
import { useContents } from '../../api/hooks'
import { cx } from '../../parts/cx'
import { Input } from '../../parts/Field'
import { Loading, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { Bytes, SizeBar } from '../../parts/SizeBar'
import { arrows } from '../packing/PackedTree'

type Node = Schemas['Node']
type Select = (path: string, folder: boolean) => void
type TreeProps = { release: string; selected: string; onSelect: Select }

/** Contents of an archive, largest first; folders are read when they are opened. It opens where the map is. */
export function Tree({ release, selected, onSelect }: TreeProps) {
  const [find, setFind] = useState('')
  const wanted = useDeferredValue(find.trim())
  return (
    <Sheet>
      <div className="p-3 border-b border-line">
        <Input data-find aria-label={t`Find in the archive`} placeholder={t`Find by words, or like *.jpg`} value={find} onChange={(e) => setFind(e.target.value)} />
      </div>
      {wanted ? <Found {...{ release, selected, onSelect }} find={wanted} /> : (
        <ul className="max-h-[calc(100vh-300px)] min-h-80 overflow-auto py-1" aria-label={t`Contents`} role="tree" onKeyDown={arrows}>
          <Level {...{ release, selected, onSelect }} path="" depth={0} most={0} />
        </ul>
      )}
    </Sheet>
  )
}

function Level({ path, depth, most, ...tree }: TreeProps & { path: string; depth: number; most: number }) {
  const contents = useContents(tree.release, path, '')
  if (contents.isPending) return <li><Loading /></li>
  if (!contents.data) return <li className="px-4"><Trouble error={contents.error} /></li>
  const top = most || contents.data.nodes[0]?.bytes || 0
  return contents.data.nodes.map((n) => <Branch key={n.path} {...tree} n={n} depth={depth} most={top} />)
}

function Branch({ n, depth, most, ...tree }: TreeProps & { n: Node; depth: number; most: number }) {
  const holds = n.folder && (tree.selected === n.path || tree.selected.startsWith(`${n.path}/`))
  const [open, setOpen] = useState(holds ?? false)
  useEffect(() => { if (holds) setOpen(true) }, [holds])
  const Icon = open ? ChevronDown : ChevronRight
  const act = () => {
    if (n.folder) setOpen(!open)
    tree.onSelect(n.path, n.folder ?? false)
  }
  return (
    <li role="treeitem" aria-expanded={n.folder ? open : undefined} aria-selected={tree.selected === n.path}>
      <div className={cx('flex items-center h-[28px] pr-3 gap-2', tree.selected === n.path ? 'bg-leaf-wash' : 'hover:bg-leaf-wash/50')} style={{ paddingLeft: 10 + depth * 16 }}>
        <button type="button" data-row aria-expanded={n.folder ? open : undefined} title={n.path} className="flex items-center gap-1 min-w-0 flex-1 text-left" onClick={act}>
          {n.folder ? <Icon size={14} className="text-faint shrink-0" aria-hidden /> : <span className="w-3.5 shrink-0" />}
          <span className="truncate">{n.name}</span>{n.link && <span className="text-faint truncate">→ {n.link}</span>}
        </button>
        {n.rows ? <span className="text-faint whitespace-nowrap">{plural(n.rows, { one: '# row', other: '# rows' })}</span> : null}
        <SizeBar bytes={n.bytes} most={most} area={n.area ?? ''} width="w-20" />
        <span className="w-16 text-right"><Bytes of={n.bytes} /></span>
      </div>
      {open && n.folder && <ul role="group"><Level {...tree} path={n.path} depth={depth + 1} most={most} /></ul>}
    </li>
  )
}

function Found({ release, find, selected, onSelect }: TreeProps & { find: string }) {
  const found = useContents(release, '', find)
  if (!found.data) return found.error ? <div className="px-3"><Trouble error={found.error} /></div> : <Loading />
  const nodes = found.data.nodes
  return (
    <ul className="max-h-[calc(100vh-300px)] min-h-80 overflow-auto py-1" aria-label={t`Found`}>
      {nodes.length === 0 && <li className="px-4 text-soft"><Trans>Nothing matches.</Trans></li>}
      {nodes.map((n) => (
        <li key={n.path} className={cx('flex items-center h-[28px] px-3 gap-2', selected === n.path ? 'bg-leaf-wash' : 'hover:bg-leaf-wash/50')}>
          <button type="button" title={n.path} className="flex-1 min-w-0 truncate text-left font-mono text-[0.92rem] hover:underline" onClick={() => onSelect(n.path, n.folder ?? false)}>{n.path}{n.folder && '/'}</button>
          <SizeBar bytes={n.bytes} most={nodes[0]!.bytes} area={n.area ?? ''} width="w-16" /><span className="w-16 text-right"><Bytes of={n.bytes} /></span>
        </li>
      ))}
    </ul>
  )
}
