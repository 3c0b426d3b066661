import { t } from '@lingui/core/macro'
import type { Schemas } from '../../api/client'

export type Edit = NonNullable<Schemas['Finding']['remedy']>

type Sort = 'out' | 'empty' | 'rows' | 'blank'

function sortOf(e: Edit): Sort {
  if (e.leave_out?.length || e.leave_out_tables?.length) return 'out'
  if (e.empty?.length) return 'empty'
  return e.drop_rows?.length ? 'rows' : 'blank'
}

const words: Record<Sort, [string, string, string]> = {
  out: [t`Leave out`, t`Leave out of`, t`left out`], empty: [t`Empty`, t`Empty in`, t`emptied`], rows: [t`Drop the rows`, t`Drop the rows in`, t`rows dropped`], blank: [t`Blank`, t`Blank in`, t`blanked`],
}

/** What a remedy does, in a word or two. */
export const remedyVerb = (e: Edit) => words[sortOf(e)][0]

/** The same, with the starter's name behind it. */
export const remedyWord = (e: Edit) => words[sortOf(e)][1]

/** The same, when it has been done. */
export const remedyDone = (e: Edit) => words[sortOf(e)][2]

/** Whether a packing list has everything already that an edit would add. */
export function contains(list: Schemas['PackingList'] | undefined, e: Edit): boolean {
  if (!list) return false
  const all = (has: string[] | undefined, want: string[] | undefined) => (want ?? []).every((w) => has?.includes(w))
  return all(list['leave-out']?.paths, e.leave_out) && all(list['leave-out']?.tables, e.leave_out_tables) && all(list.empty, e.empty) && all(list.blank?.options, e.blank_options)
    && all(list.blank?.settings, e.blank_settings)
    && (e.blank_values ?? []).every((v) => list.blank?.values?.some((x) => x.option === v.option && x.path.join() === v.path.join()))
    && (e.drop_rows ?? []).every((r) => list['drop-rows']?.some((x) => x.table === r.table && x.column === r.column && all(x.values, r.values)))
}

/** What leaves a place of a release out of those to come: a file, a folder with all in it, or the rows of a table, whose name has a prefix. */
export function leavesOut(path: string, isFolder: boolean, prefix: string): Edit {
  const table = path.startsWith('database/') ? path.slice('database/'.length) : ''
  if (table) return { empty: [table.startsWith(prefix) ? table.slice(prefix.length) : table] }
  const quoted = path.replace(/[\\*?[\]{}]/g, '\\$&')
  return { leave_out: [isFolder ? `${quoted}/**` : quoted] }
}
