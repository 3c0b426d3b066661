import { expect, it } from 'vitest'
import { together } from './together'

const group = (noun: 'site' | 'source', name: string, sentence: string) => ({ noun, name, title: name, severity: 'warning' as const, items: [{ severity: 'warning' as const, sentence, act: 'open' as const }] })

it('shows what is said of several sites once', () => {
  const merged = together([group('site', 'a', 'x'), group('source', 's', 'x'), group('site', 'b', 'y'), group('site', 'c', 'x'), group('source', 't', 'x')])
  expect(merged.map((m) => [m.first.name, ...m.others.map((o) => o.name)])).toEqual([['a', 'c'], ['s'], ['b'], ['t']])
})
