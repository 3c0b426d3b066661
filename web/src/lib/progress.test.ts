import { expect, it } from 'vitest'
import type { Run } from '../api/client'
import { progressSentence } from './progress'

const amount = (files: number, rows = 0) => ({ files, rows, bytes: 0 })
const run = (part: Partial<Run>, progress: Partial<Run['progress']> = {}) => ({
  status: 'working', ...part,
  progress: { step: 'Place files', steps: [], done: amount(0), expected: amount(0), fraction: 0, bytes_per_second: 0, seconds_left: 0, ...progress },
}) as unknown as Run

it('says what is done of what is expected', () => {
  expect(progressSentence(run({ status: 'waiting' }))).toBe('waiting for its turn')
  expect(progressSentence(run({ status: 'cleanup-failed' }))).toContain('could not be taken back')
  expect(progressSentence(run({}))).toBe('place files')
  expect(progressSentence(run({}, { done: amount(1200, 50), expected: amount(2744), bytes_per_second: 9.3e6, seconds_left: 2 })))
    .toBe('place files · files 1,200 of 2,744 · 50 rows · 9.3 MB/s · 2.0 s left')
  expect(progressSentence(run({}, { done: amount(3000), expected: amount(2744) }))).toBe('place files · 3,000 files')
})
