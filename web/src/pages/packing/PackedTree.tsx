import { plural, t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { ChevronDown, ChevronRight } from 'lucide-react'
import { useDeferredValue, useState, type KeyboardEvent } from 'react'
import { called } from '../../lib/called'
import type { Schemas } from '../../api/client'
import { usePackedLevel } from '../../api/hooks'
import { count } from '../../lib/format'
import { cx } from '../../parts/cx'
import { Input } from '../../parts/Field'
import { Loading, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { Bytes, SizeBar } from '../../parts/SizeBar'
import { editOf, ownRule, stateOf, tableEdit } from './states'

type Node = Schemas['PackedNode']
type Table = Schemas['PackedTable']
type Edit = (edit: Schemas['ListEdit']) => void
type Context = { starter: string; text: string; busy: boolean; onEdit: Edit; find: string }

/** Files and tables of the source, largest first, each with whether it goes in; a click decides otherwise. */
export function PackedTree({ starter, text, busy, onEdit }: Omit<Context, 'find'>) {
  const [typed, type] = useState('')
  const find = useDeferredValue(typed.trim())
  const level = usePackedLevel(starter, text, '', find)
  const context = { starter, text, busy, onEdit, find }
  return (
    <Sheet title={t`Files and tables`} aside={<Input data-find aria-label={t`Find files`} placeholder={t`find, or *.mp4`} className="h-[26px]! w-52!" value={typed} onChange={(e) => type(e.target.value)} />}>
      <div className="px-4"><Trouble error={level.error} /></div>
      {level.isPending && <Loading />}
      {level.data && (
        <div className="max-h-[calc(100vh-250px)] min-h-64 overflow-auto border-t border-line">
          <ul role="tree" aria-label={t`Files of the source`} onKeyDown={arrows}>
            <Level nodes={level.data.nodes} all={level.data.all} depth={0} most={level.data.nodes[0]?.bytes ?? 0} context={context} />
          </ul>
          {!find && level.data.tables.length > 0 && <Tables tables={level.data.tables} busy={busy} onEdit={onEdit} />}
        </div>
      )}
    </Sheet>
  )
}

function Level({ nodes, all, depth, most, context }: { nodes: Node[]; all: number; depth: number; most: number; context: Context }) {
  return (
    <>
      {nodes.length === 0 && <li className="px-4 py-2 text-soft">{context.find ? t`No file is like that.` : t`Nothing is in here.`}</li>}
      {nodes.map((n) => <Branch key={n.path} n={n} depth={depth} most={most} context={context} />)}
      {all > nodes.length && <li className="px-4 py-1 text-soft"><Trans>and <Plural value={all - nodes.length} one="# smaller one" other="# smaller ones" /></Trans></li>}
    </>
  )
}

function Branch({ n, depth, most, context }: { n: Node; depth: number; most: number; context: Context }) {
  const [open, setOpen] = useState(false)
  const below = usePackedLevel(context.starter, context.text, n.path, '', open)
  const state = stateOf(n)
  const Icon = open ? ChevronDown : ChevronRight
  return (
    <li role="treeitem" aria-expanded={n.folder ? open : undefined}>
      <div className="flex items-center h-[28px] pr-3 gap-2 border-b border-line hover:bg-leaf-wash/50" style={{ paddingLeft: 12 + depth * 16 }}>
        {n.folder ? (
          <button type="button" data-row aria-expanded={open} className="flex items-center gap-1 min-w-0 text-left font-mono" onClick={() => setOpen(!open)}>
            <Icon size={14} className="text-faint shrink-0" aria-hidden /><span className={cx('truncate', state === 'out' && 'line-through text-faint')}>{n.name}</span>
          </button>
        ) : <span tabIndex={-1} data-row className={cx('pl-[18px] truncate font-mono', state === 'out' && 'line-through text-faint')} title={n.path}>{n.name}</span>}
        <span className="flex-1 min-w-0 truncate text-soft" title={n.rule}>
          {state === 'out' && n.rule && !ownRule(n) && <><Trans>by <span className="font-mono">{n.rule}</span></Trans></>}
          {state === 'partly' && t`${count(n.out_files)} of ${plural(n.files, { one: '# file', other: '# files' })} out`}
        </span>
        <SizeBar bytes={n.bytes - n.out_bytes} most={most} area={n.area} width="w-16" />
        <span className="w-16 text-right"><Bytes of={n.bytes} /></span>
        <Choice label={n.name} value={state === 'partly' ? '' : state} options={['in', 'out']} busy={context.busy}
          can={(to) => editOf(n, to as 'in' | 'out') !== undefined}
          onPick={(to) => { const edit = editOf(n, to as 'in' | 'out'); if (edit) context.onEdit(edit) }} />
      </div>
      {open && (below.data
        ? <ul role="group"><Level nodes={below.data.nodes} all={below.data.all} depth={depth + 1} most={most} context={context} /></ul>
        : <div className="px-4"><Trouble error={below.error} /></div>)}
    </li>
  )
}

function Tables({ tables, busy, onEdit }: { tables: Table[]; busy: boolean; onEdit: Edit }) {
  const most = tables[0]?.bytes ?? 0
  return (
    <>
      <h3 className="px-4 h-[28px] flex items-center bg-bench font-bold border-b border-line"><Trans>Tables</Trans></h3>
      <ul aria-label={t`Tables of the source`}>
        {tables.map((table) => (
          <li key={table.name} className="flex items-center h-[28px] pl-[30px] pr-3 gap-2 border-b border-line hover:bg-leaf-wash/50">
            <span className={cx('font-mono truncate', table.state === 'out' && 'line-through text-faint')}>{table.name}</span>
            <span className="flex-1 min-w-0 truncate text-soft">{table.rule && table.rule !== `tables: ${table.name}`
              ? <Trans>about <Plural value={table.rows} one="# row" other="# rows" />, by <span className="font-mono">{table.rule}</span></Trans>
              : <Trans>about <Plural value={table.rows} one="# row" other="# rows" /></Trans>}</span>
            <SizeBar bytes={table.state === 'in' ? table.bytes : 0} most={most} area="database" width="w-16" />
            <span className="w-16 text-right"><Bytes of={table.bytes} /></span>
            <Choice label={t`table ${table.name}`} value={table.state} options={['in', 'out', 'empty']} busy={busy} can={(to) => tableEdit(table, to as Table['state']) !== undefined}
              onPick={(to) => { const edit = tableEdit(table, to as Table['state']); if (edit) onEdit(edit) }} />
          </li>
        ))}
      </ul>
    </>
  )
}

type ChoiceProps = { label: string; value: string; options: string[]; busy: boolean; can: (to: string) => boolean; onPick: (to: string) => void }

const chosenLook: Record<string, string> = { in: 'bg-leaf-wash text-leaf-strong font-bold', out: 'bg-strip text-on-strip font-bold', empty: 'bg-amber-wash text-amber font-bold' }

/** What becomes of one thing: it goes in, stays out, or goes in without rows. */
function Choice({ label, value, options, busy, can, onPick }: ChoiceProps) {
  return (
    <span role="group" aria-label={t`What becomes of ${label}`} className="inline-flex border border-line rounded overflow-hidden shrink-0">
      {options.map((o) => {
        const on = o === value
        return (
          <button key={o} type="button" aria-pressed={on} disabled={!on && (busy || !can(o))} title={!on && !can(o) ? t`a rule for more than this keeps it out; change that in the text` : undefined}
            onClick={() => { if (!on) onPick(o) }} className={cx('h-[20px] px-2 text-[0.85rem] disabled:opacity-40', on ? chosenLook[o] : 'text-soft hover:bg-leaf-wash/60')}>{called(o)}</button>
        )
      })}
    </span>
  )
}

/** In a tree, arrow keys go from row to row and open and close folders. */
export function arrows(e: KeyboardEvent<HTMLElement>) {
  const at = (e.target as HTMLElement).closest<HTMLElement>('[data-row]')
  if (!at) return
  const rows = [...e.currentTarget.querySelectorAll<HTMLElement>('[data-row]')]
  const go = (to: HTMLElement | undefined) => { e.preventDefault(); to?.focus() }
  const expanded = at.getAttribute('aria-expanded')
  switch (e.key) {
    case 'ArrowDown': return go(rows[rows.indexOf(at) + 1])
    case 'ArrowUp': return go(rows[rows.indexOf(at) - 1])
    case 'Home': return go(rows[0])
    case 'End': return go(rows.at(-1))
    case 'ArrowRight':
      if (expanded === 'false') { e.preventDefault(); at.click() } else if (expanded === 'true') go(rows[rows.indexOf(at) + 1])
      return
    case 'ArrowLeft':
      if (expanded === 'true') { e.preventDefault(); at.click() } else go(at.closest('ul')?.closest('li')?.querySelector<HTMLElement>('[data-row]') ?? undefined)
  }
}
