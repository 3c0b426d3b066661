import { expect, it } from 'vitest'
import type { Run } from '../../api/client'
import { concerns, jobs } from './outcome'

const run = (part: Partial<Run>) => ({ id: 7, status: 'done', about: { noun: '', name: '' }, ...part }) as Run

it('leads to what a run made, or to what it is about when it failed', () => {
  const starter = { noun: 'starter', name: 'music-base' }
  expect(concerns(run({ job: 'build', about: starter, result: { release: 'music-base@3' } }))?.to).toBe('/releases/music-base@3')
  expect(concerns(run({ job: 'build', about: starter, status: 'failed' }))?.to).toBe('/starters/music-base')
  const site = { noun: 'site', name: 'alder' }
  expect(concerns(run({ job: 'provision', about: site }))?.to).toBe('/sites/alder')
  expect(concerns(run({ job: 'provision', about: site, status: 'failed' }))?.to).toBe('/sites/new')
  expect(concerns(run({ job: 'check', about: { noun: 'source', name: 'base' } }))?.to).toBe('/sources/base')
  expect(concerns(run({ job: 'compare', about: { noun: 'comparison', name: 'x' } }))?.to).toBe('/comparisons/7')
  expect(concerns(run({ job: 'screenshots', about: site }))?.to).toBe('/sites/alder/side-by-side')
  expect(concerns(run({ job: 'screenshots', about: site, status: 'failed' }))?.to).toBe('/sites/alder')
  expect(concerns(run({ job: 'install-remove', about: { noun: 'install', name: 'x' } }))?.to).toBe('/hosts')
  expect(concerns(run({ job: 'retention', about: { noun: 'archives', name: 'x' } }))).toBeUndefined()
})

it('has a word for every job', () => {
  expect(Object.values(jobs).every((word) => word.length > 3)).toBe(true)
})
