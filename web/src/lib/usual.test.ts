import { expect, it } from 'vitest'
import { usual } from './usual'

const release = (starter: string, number: number, sites: number, kept = true) => ({ ref: `${starter}@${number}`, starter, number, sites, kept })

it('offers the newest release of the starter that most sites were made from', () => {
  expect(usual([release('harbour', 4, 1), release('music-base', 1, 3), release('music-base', 2, 0)])).toBe('music-base@2')
  expect(usual([release('music-base', 1, 3), release('music-base', 2, 9, false)])).toBe('music-base@1')
  expect(usual([release('b', 1, 0), release('a', 1, 0)])).toBe('a@1')
  expect(usual([])).toBe('')
})
