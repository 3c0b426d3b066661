import { expect, it } from 'vitest'
import { rowsOf } from './rows'

it('reads a table of clients', () => {
  expect(rowsOf('client,name,address,title\nalder-valley,alder,http://alder.example,Alder Valley\nbrook-lane,,,\n')).toEqual([
    { client: 'alder-valley', name: 'alder', address: 'http://alder.example', set: { title: 'Alder Valley' } },
    { client: 'brook-lane', name: undefined, address: undefined, set: {} },
  ])
})

it('says what is wrong with a table, and in which row', () => {
  expect(() => rowsOf('client\n')).toThrow('no rows')
  expect(() => rowsOf('name\nalder\n')).toThrow('no column client; it has name')
  expect(() => rowsOf('client,title\nalder,Alder\nbrook\n')).toThrow('Row 2 has 1 fields')
})
