import { expect, it } from 'vitest'
import { back, step } from './history'

it('goes back step by step, and no further than it began', () => {
  const begun = { text: 'a', before: [] }
  const there = step(step(begun, 'b'), 'c')
  expect(step(there, 'c')).toBe(there)
  expect(back(there).text).toBe('b')
  expect(back(back(back(there)))).toEqual(begun)
})
