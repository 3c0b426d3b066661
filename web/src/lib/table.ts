import { t } from '@lingui/core/macro'
import Papa from 'papaparse'

/** A table that somebody gave: its headings, and its rows by them. */
export type Table = { heads: string[]; rows: Record<string, string>[] }

/** Reads comma-separated values (RFC 4180), or cells that were copied out of a spreadsheet. need is a column that must be there. */
export function readTable(text: string, need: string): Table {
  const read = Papa.parse<string[]>(text.replace(/^\ufeff/, ''), { skipEmptyLines: 'greedy' })
  const broken = read.errors.find((e) => e.type === 'Quotes')
  if (broken) throw new Error(t`Line ${(broken.row ?? 0) + 1}: a quote is missing.`)
  const [heads, ...lines] = read.data.map((line) => line.map((cell) => cell.trim()))
  if (!heads || lines.length === 0) throw new Error(t`The table has no rows. Its first line names the columns.`)
  if (!heads.includes(need)) throw new Error(t`The table has no column “${need}”; it has ${heads.join(', ')}.`)
  const rows = lines.map((cells, i) => {
    if (cells.length !== heads.length) throw new Error(t`Row ${i + 1} has ${cells.length} fields, and the first line names ${heads.length}.`)
    return Object.fromEntries(heads.map((head, k) => [head, cells[k]!]))
  })
  return { heads, rows }
}

/** Offers a table to be saved. */
export function saveTable(name: string, rows: string[][]) {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([Papa.unparse(rows) + '\r\n'], { type: 'text/csv' }))
  link.download = name
  link.click()
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000)
}
