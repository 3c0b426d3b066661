import { expect, it } from 'vitest'
import { editOf, patternOf, stateOf, tableEdit } from './states'

const node = (part: object) => ({ path: 'uploads', name: 'uploads', folder: true, area: 'media', files: 3, bytes: 30, out_files: 0, out_bytes: 0, ...part })

it('says whether all, some or nothing of a folder goes in', () => {
  expect(stateOf(node({}))).toBe('in')
  expect(stateOf(node({ out_files: 1 }))).toBe('partly')
  expect(stateOf(node({ out_files: 3 }))).toBe('out')
})

it('leaves out just what was meant', () => {
  expect(patternOf({ path: 'a/choir [1].jpg', folder: false })).toBe('a/choir \\[1\\].jpg')
  expect(editOf(node({}), 'out')).toEqual({ leave_out: ['uploads/**'] })
  expect(editOf(node({ rule: 'uploads/**' }), 'in')).toEqual({ put_back: ['uploads/**'] })
  expect(editOf(node({ rule: '**/*.mp4' }), 'in')).toBeUndefined()
})

it('changes what becomes of a table', () => {
  const table = { name: 'log', rows: 1, bytes: 1, state: 'in' as const }
  expect(tableEdit(table, 'empty')).toEqual({ empty: ['log'] })
  expect(tableEdit({ ...table, state: 'empty' }, 'out')).toEqual({ put_back: ['log'], leave_out_tables: ['log'] })
  expect(tableEdit({ ...table, state: 'out', rule: 'tables: log_*' }, 'in')).toBeUndefined()
  expect(tableEdit(table, 'in')).toBeUndefined()
})
