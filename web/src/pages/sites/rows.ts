import type { Schemas } from '../../api/client'
import type { Table } from '../../lib/table'

export type Row = Schemas['TableRow']

/** What settings are called that hold secrets, where no field says whether they do: as the service judges them. */
const secretName = /licen[cs]e|passw|passphrase|secret|token|credential|api[_-]?key|private[_-]?key|(^|[_-])(pass|key|salt)$/i

/** Rows without what may not be kept in the browser. */
export function withoutSecrets(rows: Row[], fields: Pick<Schemas['Field'], 'key' | 'secret'>[]): Row[] {
  const open = (key: string) => !(fields.find((f) => f.key === key)?.secret ?? secretName.test(key))
  return rows.map((r) => ({ ...r, set: r.set && Object.fromEntries(Object.entries(r.set).filter(([key]) => open(key))) }))
}

/** Rows of a table as what is asked for: columns client, name and address are the site's, every other is a setting. */
export function rowsOf(table: Table): Row[] {
  return table.rows.map(({ client = '', name, address, ...settings }) => ({
    client, name: name || undefined, address: address || undefined, set: Object.fromEntries(Object.entries(settings).filter(([, v]) => v !== '')),
  }))
}
