import type { ReactNode } from 'react'
import { cx } from './cx'

export type Column<T> = { head: string; cell: (row: T) => ReactNode; right?: boolean; grow?: boolean; wide?: boolean } // wide folds away where there is little room

const cellLook = 'h-[28px] px-2 first:pl-4 last:pr-4'

/** A short table: rows of 28 px with headings; numbers are right-aligned. Lists that grow are a List. */
export function Rows<T>({ rows, columns, by, caption }: {
  rows: T[]
  columns: Column<T>[]
  by: (row: T) => string | number
  caption: string
}) {
  return (
    <div className="overflow-x-auto">
      <table className="w-full border-collapse">
        <caption className="sr-only">{caption}</caption>
        <thead>
          <tr className="text-left text-faint border-b border-line">
            {columns.map((c, i) => {
              const look = cx(cellLook, c.right && 'text-right', c.grow && 'w-full', c.wide && 'max-lg:hidden')
              return c.head ? <th key={i} scope="col" className={look}>{c.head}</th> : <td key={i} className={look} />
            })}
          </tr>
        </thead>
        <tbody>
          {rows.map((r) => (
            <tr key={by(r)} className="border-b border-line last:border-0 hover:bg-leaf-wash/50">
              {columns.map((c, i) => (
                <td key={i} className={cx(cellLook, 'align-middle', c.right && 'text-right font-mono', !c.grow && 'whitespace-nowrap', c.wide && 'max-lg:hidden')}>
                  {c.cell(r)}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}
