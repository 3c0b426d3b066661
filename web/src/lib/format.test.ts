import { describe, expect, it } from 'vitest'
import { count, inRow, millis, parted, percent, size, took } from './format'

describe('sizes', () => {
  it.each([[0, '0 B'], [999, '999 B'], [1000, '1.0 kB'], [9949, '9.9 kB'], [9950, '10 kB'], [999_499, '999 kB'], [999_500, '1.0 MB'],
    [30_000_000, '30 MB'], [-1_500_000, '-1.5 MB'], [5.4e9, '5.4 GB'], [7e12, '7.0 TB'], [2e15, '2 PB']])('%d is %s', (bytes, text) => expect(size(bytes)).toBe(text))
})

describe('times', () => {
  it.each([[0, '0 ms'], [999.4, '999 ms'], [1000, '1.0 s'], [89_999, '90.0 s'], [90_000, '2 min']])('%d ms is %s', (ms, text) => expect(millis(ms)).toBe(text))
  it('says nothing of what has not ended', () => expect(took('2026-11-02T10:00:00Z')).toBe(''))
  it('is told from when to when', () => expect(took('2026-11-02T10:00:00Z', '2026-11-02T10:00:02Z')).toBe('2.0 s'))
})

it('counts', () => {
  expect(count(142068)).toBe('142,068')
  expect(percent(0.0123)).toBe('1.2%')
})

it('puts several in a row', () => {
  expect(parted(3)).toEqual([null, ', ', null, ' and ', null])
  expect(inRow(['Arial', 'Georgia'])).toBe('Arial, Georgia')
})
