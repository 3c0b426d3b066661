import { expect, it } from 'vitest'
import { readTable } from '../../lib/table'
import { rowsOf } from './rows'

it('reads a table of clients', () => {
  expect(rowsOf(readTable('client,name,address,title\nalder-valley,alder,http://alder.example,Alder Valley\nbrook-lane,,,\n', 'client'))).toEqual([
    { client: 'alder-valley', name: 'alder', address: 'http://alder.example', set: { title: 'Alder Valley' } },
    { client: 'brook-lane', name: undefined, address: undefined, set: {} },
  ])
})
