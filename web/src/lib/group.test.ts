import { expect, it } from 'vitest'
import { grouped } from './group'

it('groups in the order in which groups first come', () => {
  expect(grouped(['site b', 'client a', 'site c'], (s) => s.split(' ')[0]!)).toEqual([['site', ['site b', 'site c']], ['client', ['client a']]])
  expect(grouped([], String)).toEqual([])
})
