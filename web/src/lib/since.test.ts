import { expect, it } from 'vitest'
import { date, since } from './format'

const now = Date.parse('2026-11-28T12:00:00Z')

it.each([['2026-11-28T11:59:58Z', 'now'], ['2026-11-28T11:59:20Z', '40 sec ago'], ['2026-11-28T11:56:00Z', '4 min ago'], ['2026-11-28T05:00:00Z', '7 hr ago'],
  ['2026-11-27T11:00:00Z', 'yesterday'], ['2026-11-30T13:00:00Z', 'in 2 days'], ['2026-11-10T12:00:00Z', '3 wk ago'], ['2026-03-01T12:00:00Z', '1 Mar 2026']])('%s is %s', (at, says) => {
  expect(since(at, now)).toBe(says)
})

it('says a day of the calendar, wherever one is', () => expect(date('2026-12-01T00:00:00Z')).toBe('1 Dec'))
