// Pictures and documents in the cells of a table: a cell has the name of a file that was chosen beside the table, or a file of its own.
import type { Schemas } from '../../api/client'
import { isFile } from '../clients/ValueField'
import type { Row } from './rows'

export type Given = {
  named: File[] // what cells name
  own: Partial<Record<string, File>> // what was chosen for one cell, by its cellKey
}

export const cellKey = (at: number, field: string) => `${at} ${field}`

type Cell = { at: number; field: string; file: File }

function cells(rows: Row[], fields: Schemas['Field'][], given: Given): Cell[] {
  const keys = fields.filter(isFile).map((f) => f.key)
  return rows.flatMap((row, at) => keys.flatMap((field) => {
    const file = given.own[cellKey(at, field)] ?? given.named.find((f) => f.name === row.set?.[field])
    return file ? [{ at, field, file }] : []
  }))
}

const put = (rows: Row[], at: number, field: string, value: string) =>
  rows.map((r, i) => (i === at ? { ...r, set: { ...r.set, [field]: value } } : r))

/** What a plan is asked with: files are not sent for it, so they go by a sum that no file has. */
export const planned = (rows: Row[], fields: Schemas['Field'][], given: Given) =>
  cells(rows, fields, given).reduce((all, { at, field, file }) => put(all, at, field, `file:${'0'.repeat(64)}/${file.name.replace(/[^A-Za-z0-9._-]+/g, '-')}`), rows)

/** Gives each client its files, one after the other until it is left, and returns the rows with what they are called by then. */
export async function withFilesSent(rows: Row[], fields: Schemas['Field'][], given: Given, send: (client: string, file: File) => Promise<string>,
  left: () => boolean, progress: (sent: number, all: number) => void): Promise<Row[]> {
  const all = cells(rows, fields, given)
  let out = rows
  for (const [i, { at, field, file }] of all.entries()) {
    if (left()) break
    progress(i, all.length)
    out = put(out, at, field, await send(rows[at]!.client, file))
  }
  return out
}
