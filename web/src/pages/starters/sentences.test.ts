import { expect, it } from 'vitest'
import type { Release, Starter } from '../../api/client'
import { changeSentence, difference, retention } from './sentences'

const release = (archive_bytes: number, before_bytes?: number) => ({ archive_bytes, before_bytes }) as Release
const starter = (last: number, weeks: number) => ({ retention: { last, weeks } }) as Starter

it('says how a release differs in size', () => {
  expect(difference(release(5))).toBe('first')
  expect(difference(release(90e6, 120e6))).toBe('−30 MB')
  expect(changeSentence(release(5))).toContain('first release')
  expect(changeSentence(release(5, 5))).toContain('As large as')
  expect(changeSentence(release(150e6, 120e6))).toBe('+30 MB against the release before.')
})

it('says which archives are kept', () => {
  expect(retention(starter(0, 0))).toBe('all archives are kept')
  expect(retention(starter(0, 4))).toBe('the last archive is kept, and one a week for 4 weeks')
  expect(retention(starter(2, 1))).toBe('the last 2 archives are kept, and one a week for 1 week')
  expect(retention(starter(3, 0))).toBe('the last 3 archives are kept')
})
