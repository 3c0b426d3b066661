import type { Schemas } from '../../api/client'
import type { Table } from '../../lib/table'

export type Row = Schemas['TableRow']

/** Rows of a table as what is asked for: columns client, name and address are the site's, every other is a setting. */
export function rowsOf(table: Table): Row[] {
  return table.rows.map(({ client = '', name, address, ...settings }) => ({
    client, name: name || undefined, address: address || undefined, set: Object.fromEntries(Object.entries(settings).filter(([, v]) => v !== '')),
  }))
}
