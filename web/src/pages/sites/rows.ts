import type { Schemas } from '../../api/client'
import { readCSV } from '../../parts/csv'

export type Row = Schemas['TableRow']

/** Rows of a table as what is asked for: columns client, name and address are the site's, every other is a setting. */
export function rowsOf(text: string): Row[] {
  const [heads, ...lines] = readCSV(text)
  if (!heads || lines.length === 0) throw new Error('The table has no rows. Its first line names the columns, each further one is a site.')
  if (!heads.includes('client')) throw new Error(`The table has no column client; it has ${heads.join(', ')}.`)
  return lines.map((cells, i) => {
    if (cells.length !== heads.length) throw new Error(`Row ${i + 1} has ${cells.length} fields, and the first line names ${heads.length}.`)
    const row: Row = { client: '', set: {} }
    heads.forEach((head, k) => {
      const v = cells[k]!
      if (head === 'client') row.client = v
      else if (head === 'name') row.name = v || undefined
      else if (head === 'address') row.address = v || undefined
      else if (v) row.set![head] = v
    })
    return row
  })
}
