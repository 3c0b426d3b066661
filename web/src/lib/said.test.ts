import { i18n, type Messages } from '@lingui/core'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { hearService } from '../language'
import { messages as english } from '../words/service/en.po'
import { inOurWords, said, understand } from './said'

// Marks every sentence and turns the order of its values, as another language may.
const turned = (m: Messages[string]): Messages[string] => (typeof m === 'string' ? `‹${m}›` : ['‹', ...m, '›'])

beforeAll(() => {
  i18n.activate('xx', 'en-GB')
  hearService(english, Object.fromEntries(Object.entries(english).map(([id, m]) => [id, turned(m)])))
})
afterAll(() => understand({}))

describe('what the service says', () => {
  it.each([
    ['17 pages open', '‹17 pages open›'],
    ['2 pages open; all 17 were opened on branch-301, which has the same code', '‹2 pages open›; ‹all 17 were opened on branch-301, which has the same code›'],
    ['settings and working files are not readable over the web', '‹settings and working files are not readable over the web›'],
    ["the site works on its own database, ns_alder, as it says itself", '‹the site works on its own database, ns_alder, as it says itself›'],
    ['mail is kept from going out, as asked', '‹mail is ‹kept from going out›, as asked›'],
    ['Make site alder-valley', '‹Make site alder-valley›'],
    ['Summer course of Dale End', 'Summer course of Dale End'],
    ['', ''],
  ])('%s', (text, ours) => expect(said(text)).toBe(ours))

  it('is put into other words where it stands in an answer, and nothing else is', () => {
    const run = { job: 'provision', title: 'Make site alder-valley', error: 'name: Alder is not one; use small letters, digits and dashes', note: '17 pages open', progress: { step: 'Log in' } }
    expect(inOurWords({ runs: [run] }).runs[0]).toEqual({ ...run, title: '‹Make site alder-valley›', error: '‹name: Alder is not one; use small letters, digits and dashes›', progress: { step: '‹Log in›' } })
    const site = { title: 'Make site alder-valley', why: 'replaced', report: { checks: [{ name: 'mail', sentence: 'the site did not answer', evidence: ['17 pages open'] }] } }
    expect(inOurWords(site)).toEqual({ ...site, report: { checks: [{ name: 'mail', sentence: '‹the site did not answer›', evidence: ['‹17 pages open›'] }] } })
  })

  it('has plurals of the language, and values where it wants them', () => {
    const id = Object.entries(english).find(([, m]) => JSON.stringify(m) === JSON.stringify([['0'], ' pages open']))![0]
    i18n.load('xx', { [id]: ['offen: ', ['0', 'plural', { one: ['#', ' Seite'], other: ['#', ' Seiten'] }]] })
    understand(english)
    expect(said('1 pages open')).toBe('offen: 1 Seite')
    expect(said('17 pages open')).toBe('offen: 17 Seiten')
  })

  it('stays as it is where the console speaks English', () => {
    understand({})
    const answer = { sentence: '17 pages open' }
    expect(inOurWords(answer)).toBe(answer)
    expect(said('17 pages open')).toBe('17 pages open')
  })
})
