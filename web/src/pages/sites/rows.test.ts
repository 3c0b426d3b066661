import { expect, it } from 'vitest'
import { readTable } from '../../lib/table'
import { rowsOf, withoutSecrets } from './rows'

it('reads a table of clients', () => {
  expect(rowsOf(readTable('client,name,address,title\nalder-valley,alder,http://alder.example,Alder Valley\nbrook-lane,,,\n', 'client'))).toEqual([
    { client: 'alder-valley', name: 'alder', address: 'http://alder.example', set: { title: 'Alder Valley' } },
    { client: 'brook-lane', name: undefined, address: undefined, set: {} },
  ])
})

it('keeps no secret of a table', () => {
  const rows = [{ client: 'a', set: { title: 'A', booking: 'k-1', smtp_password: 'p', keys: 'open' } }]
  expect(withoutSecrets(rows, [{ key: 'booking', secret: true }, { key: 'keys', secret: false }])).toEqual([{ client: 'a', set: { title: 'A', keys: 'open' } }])
  expect(withoutSecrets([{ client: 'b' }], [])).toEqual([{ client: 'b' }])
})
