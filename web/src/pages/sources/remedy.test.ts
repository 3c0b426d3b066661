import { expect, it } from 'vitest'
import type { Schemas } from '../../api/client'
import { contains, leavesOut, remedyWord } from './remedy'

const list = {
  list: 'starter', 'leave-out': { paths: ['**/cache/**'], tables: ['statistics'] }, empty: ['comments'],
  blank: { options: ['admin_email'], values: [{ option: 'school', path: ['mail', 'pass'] }] }, 'drop-rows': [{ table: 'posts', column: 'post_type', values: ['revision'] }],
} as Schemas['PackingList']

it('knows which rules a list has', () => {
  expect(contains(list, { leave_out: ['**/cache/**'] })).toBe(true)
  expect(contains(list, { leave_out: ['**/cache/**', '*.log'] })).toBe(false)
  expect(contains(list, { leave_out_tables: ['statistics'], empty: ['comments'], blank_options: ['admin_email'] })).toBe(true)
  expect(contains(list, { blank_values: [{ option: 'school', path: ['mail', 'pass'] }] })).toBe(true)
  expect(contains(list, { blank_values: [{ option: 'school', path: ['mail'] }] })).toBe(false)
  expect(contains(list, { drop_rows: [{ table: 'posts', column: 'post_type', values: ['revision'] }] })).toBe(true)
  expect(contains(list, { drop_rows: [{ table: 'posts', column: 'post_type', values: ['draft'] }] })).toBe(false)
  expect(contains(undefined, { empty: [] })).toBe(false)
})

it('calls a remedy by what it does', () => {
  expect(remedyWord({ leave_out_tables: ['statistics'] })).toBe('Leave out of')
  expect(remedyWord({ empty: ['comments'] })).toBe('Empty in')
  expect(remedyWord({ drop_rows: [{ table: 'posts', column: 'post_type', values: ['revision'] }] })).toBe('Drop the rows in')
  expect(remedyWord({ blank_options: ['admin_email'] })).toBe('Blank in')
})

it('leaves a place of a release out of those to come', () => {
  expect(leavesOut('wp-content/uploads/old', true, 'lad_')).toEqual({ leave_out: ['wp-content/uploads/old/**'] })
  expect(leavesOut('uploads/a[1].jpg', false, 'lad_')).toEqual({ leave_out: ['uploads/a\\[1\\].jpg'] })
  expect(leavesOut('database/lad_statistics', false, 'lad_')).toEqual({ empty: ['statistics'] })
  expect(leavesOut('database/other', false, 'lad_')).toEqual({ empty: ['other'] })
})
