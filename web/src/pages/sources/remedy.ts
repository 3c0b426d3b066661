import type { Schemas } from '../../api/client'

export type Edit = NonNullable<Schemas['Finding']['remedy']>

/** What a remedy does, in a word or two. */
export function remedyWord(e: Edit): string {
  if (e.leave_out?.length || e.leave_out_tables?.length) return 'Leave out of'
  if (e.empty?.length) return 'Empty in'
  if (e.drop_rows?.length) return 'Drop the rows in'
  return 'Blank in'
}

/** Whether a packing list has everything already that an edit would add. */
export function contains(list: Schemas['PackingList'] | undefined, e: Edit): boolean {
  if (!list) return false
  const all = (has: string[] | undefined, want: string[] | undefined) => (want ?? []).every((w) => has?.includes(w))
  return all(list['leave-out']?.paths, e.leave_out) && all(list['leave-out']?.tables, e.leave_out_tables) && all(list.empty, e.empty) && all(list.blank?.options, e.blank_options)
    && all(list.blank?.settings, e.blank_settings)
    && (e.blank_values ?? []).every((v) => list.blank?.values?.some((x) => x.option === v.option && x.path.join() === v.path.join()))
    && (e.drop_rows ?? []).every((r) => list['drop-rows']?.some((x) => x.table === r.table && x.column === r.column && all(x.values, r.values)))
}
