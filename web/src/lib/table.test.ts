import { expect, it } from 'vitest'
import { readTable } from './table'

it('reads what spreadsheets write, and what is copied out of them', () => {
  const want = { heads: ['name', 'title'], rows: [{ name: 'alder', title: 'Alder, "Valley"' }, { name: 'brook', title: '' }] }
  expect(readTable('\ufeffname,title\r\nalder,"Alder, ""Valley"""\r\nbrook,\r\n', 'name')).toEqual(want)
  expect(readTable('name\ttitle\nalder\tAlder, "Valley"\nbrook\t\n', 'name')).toEqual(want)
  expect(readTable('name;title\nalder;"Alder, ""Valley"""\n\nbrook;\n', 'name')).toEqual(want)
})

it('says what is wrong with a table, and in which row', () => {
  expect(() => readTable('name\n', 'name')).toThrow('no rows')
  expect(() => readTable('title\nalder\n', 'name')).toThrow('no column “name”; it has title')
  expect(() => readTable('name,title\nalder,Alder\nbrook\n', 'name')).toThrow('Row 2 has 1 fields')
})
