import { t } from '@lingui/core/macro'
import { createColumnHelper, getCoreRowModel, useReactTable, type ColumnDef, type RowSelectionState } from '@tanstack/react-table'
import { useVirtualizer } from '@tanstack/react-virtual'
import { ArrowDown, Columns3 } from 'lucide-react'
import { DropdownMenu } from 'radix-ui'
import { useEffect, useRef, useState, type ReactNode } from 'react'
import { Button } from './Button'
import { cx } from './cx'

export type ListColumn<T> = {
  id: string
  head: string
  cell: (row: T) => ReactNode
  right?: boolean
  grow?: boolean
  sort?: string // what the service sorts by, where it can
  fixed?: boolean // cannot be put away
  away?: boolean // is not shown unless it is asked for
  wide?: boolean // folds away where there is little room
}

type ListProps<T> = {
  name: string // what the choice of columns is remembered by
  caption: string
  rows: T[]
  by: (row: T) => string
  columns: ListColumn<T>[]
  sort?: string
  onSort?: (sort: string) => void
  chosen?: RowSelectionState
  onChoose?: (chosen: RowSelectionState) => void
  label?: (row: T) => string
  more?: () => void // reads the next page
  rowHeight?: number
}

const rowHeights = 32

/** A list that grows: it sorts, lets columns and rows be chosen, and draws only the rows that are seen. */
export function List<T>(props: ListProps<T>) {
  const { name, caption, rows, by, columns, sort, onSort, chosen, onChoose, label, more, rowHeight = rowHeights } = props
  const [hidden, setHidden] = useHidden(name, columns)
  const helper = createColumnHelper<T>()
  const defs = columns.filter((c) => !hidden.includes(c.id)).map((c) =>
    helper.display({ id: c.id, header: c.head, meta: c }) as ColumnDef<T>)
  const table = useReactTable({
    data: rows, columns: defs, getRowId: by, getCoreRowModel: getCoreRowModel(), enableRowSelection: !!onChoose,
    state: { rowSelection: chosen ?? {} },
    onRowSelectionChange: (next) => onChoose?.(typeof next === 'function' ? next(chosen ?? {}) : next),
  })
  const all = table.getRowModel().rows
  const box = useRef<HTMLDivElement>(null)
  const virtual = useVirtualizer({ count: all.length, getScrollElement: () => box.current, estimateSize: () => rowHeight, overscan: 12 })
  const seen = virtual.getVirtualItems()
  const last = seen.at(-1)?.index ?? 0
  useEffect(() => {
    if (more && last >= all.length - 20) more()
  }, [last, all.length, more])
  const before = seen[0]?.start ?? 0
  const after = virtual.getTotalSize() - (seen.at(-1)?.end ?? 0)
  const end = columns.filter((c) => !hidden.includes(c.id)).at(-1)?.id // beside it is the button that chooses columns
  const narrowEnd = columns.filter((c) => !hidden.includes(c.id) && !c.wide).at(-1)?.id
  const across = defs.length + (onChoose ? 1 : 0)
  return (
    <div className="relative">
      <div ref={box} tabIndex={0} role="region" aria-label={caption} className="overflow-auto max-h-[calc(100vh-188px)] min-h-24">
        <table className="w-full border-collapse" aria-rowcount={all.length}>
          <caption className="sr-only">{caption}</caption>
          <thead className="sticky top-0 bg-sheet z-10">
            <tr className="text-left text-faint shadow-[inset_0_-1px_0_var(--line)]">
              {onChoose && (
                <td className="w-8 pl-4 h-8">
                  <input type="checkbox" aria-label={t`Choose all that are shown`} checked={all.length > 0 && table.getIsAllRowsSelected()}
                    className="accent-[var(--leaf)] align-middle" onChange={table.getToggleAllRowsSelectedHandler()} />
                </td>
              )}
              {table.getFlatHeaders().map((h) => {
                const c = h.column.columnDef.meta as ListColumn<T>
                return (
                  <th key={h.id} scope="col" aria-sort={c.sort && c.sort === sort ? 'ascending' : undefined}
                    className={cx('h-8 px-2 first:pl-4 whitespace-nowrap', c.right && 'text-right', c.grow && 'w-full', c.wide && 'max-lg:hidden', c.id === end && 'lg:pr-13', c.id === narrowEnd && 'max-lg:pr-13')}>
                    {c.sort && onSort ? (
                      <button type="button" className="font-semibold hover:text-ink inline-flex items-center gap-1" onClick={() => onSort(c.sort!)}>
                        {c.head}{c.sort === sort && <ArrowDown size={12} aria-hidden />}
                      </button>
                    ) : c.head || <span className="sr-only">{c.id}</span>}
                  </th>
                )
              })}
            </tr>
          </thead>
          <tbody>
            {before > 0 && <tr style={{ height: before }}><td colSpan={across} /></tr>}
            {seen.map((v) => {
              const row = all[v.index]!
              return (
                <tr key={row.id} data-index={v.index} style={{ height: rowHeight }}
                  className={cx('border-b border-line last:border-0', row.getIsSelected() ? 'bg-leaf-wash/60' : 'hover:bg-leaf-wash/50')}>
                  {onChoose && (
                    <td className="pl-4">
                      <input type="checkbox" aria-label={t`Choose ${label?.(row.original) ?? row.id}`} checked={row.getIsSelected()}
                        className="accent-[var(--leaf)] align-middle" onChange={row.getToggleSelectedHandler()} />
                    </td>
                  )}
                  {row.getVisibleCells().map((cell) => {
                    const c = cell.column.columnDef.meta as ListColumn<T>
                    return (
                      <td key={cell.id} className={cx('px-2 first:pl-4 align-middle', c.id === end && 'lg:pr-4', c.id === narrowEnd && 'max-lg:pr-4', c.right && 'text-right font-mono', c.wide && 'max-lg:hidden', c.grow ? 'max-w-0 truncate' : 'whitespace-nowrap')}>
                        {c.cell(row.original) /* and not as a part of its own: what is typed in it stays when the list is drawn again */}
                      </td>
                    )
                  })}
                </tr>
              )
            })}
            {after > 0 && <tr style={{ height: after }}><td colSpan={across} /></tr>}
          </tbody>
        </table>
      </div>
      <ChooseColumns columns={columns} hidden={hidden} onChange={setHidden} />
    </div>
  )
}

function useHidden<T>(name: string, columns: ListColumn<T>[]): [string[], (hidden: string[]) => void] {
  const key = `columns ${name}`
  const [hidden, set] = useState<string[]>(() => {
    const kept = localStorage.getItem(key)
    return kept === null ? columns.filter((c) => c.away).map((c) => c.id) : kept.split(' ').filter(Boolean)
  })
  return [hidden, (next) => { localStorage.setItem(key, next.join(' ')); set(next) }]
}

function ChooseColumns<T>({ columns, hidden, onChange }: { columns: ListColumn<T>[]; hidden: string[]; onChange: (hidden: string[]) => void }) {
  const free = columns.filter((c) => !c.fixed && c.head)
  if (free.length === 0) return null
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger asChild>
        <Button small aria-label={t`Choose columns`} className="absolute right-2 top-[5px] z-10 shadow-[0_0_0_6px_var(--sheet)]"><Columns3 size={13} aria-hidden /></Button>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" className="z-50 bg-sheet border border-line-strong rounded-md py-1 min-w-40">
          {free.map((c) => (
            <DropdownMenu.CheckboxItem key={c.id} checked={!hidden.includes(c.id)} onSelect={(e) => e.preventDefault()}
              onCheckedChange={(on) => onChange(on ? hidden.filter((h) => h !== c.id) : [...hidden, c.id])}
              className="px-3 h-7 flex items-center gap-2 data-highlighted:bg-leaf-wash outline-none cursor-pointer">
              <span className="w-3" aria-hidden>{hidden.includes(c.id) ? '' : '✓'}</span>{c.head}
            </DropdownMenu.CheckboxItem>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  )
}
