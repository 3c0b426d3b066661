// @vitest-environment happy-dom
import './testing/service'
import type { Messages } from '@lingui/core'
import { readdirSync, readFileSync } from 'node:fs'
import ts from 'typescript'
import { expect, it } from 'vitest'
import { chosenOf, speak } from './language'
import { draw } from './testing/draw'
import { service } from './testing/service'
import { messages } from './words/en.po'

it('speaks the first of the languages somebody reads that there is', () => {
  expect(chosenOf(['de-AT', 'fr'], ['en', 'fr', 'de'])).toBe('de')
  expect(chosenOf(['fro', 'fr'], ['en', 'fr'])).toBe('fr')
  expect(chosenOf(['ja'], ['en', 'fr'])).toBe('en')
})

it('speaks another language all over a page', { timeout: 60_000 }, async () => {
  const marked = (m: Messages[string]): Messages[string] => (typeof m === 'string' ? `‹${m}›` : ['‹', ...m, '›'])
  speak('xx', 'en-GB', Object.fromEntries(Object.entries(messages).map(([id, m]) => [id, marked(m)])))
  for (const what of ['sources', 'starters', 'releases', 'hosts']) service.answers[`GET /${what}`] = []
  service.answers['GET /sample'] = { there: false }
  const { FirstSteps } = await import('./pages/today/FirstSteps')
  const day = { sources: 0, starters: 0, clients: 0, sites: 0, hosts: 0, working: 0, groups: [], more: 0, tasks: [], all_tasks: 0, held: [], leading: [], behind: [], ending: [], uncopied: 0 }
  const { container } = draw(<FirstSteps today={day} />)
  const said = [...container.querySelectorAll('h2, p, button, a, li')].filter((e) => e.children.length === 0).map((e) => e.textContent)
  expect(said.length).toBeGreaterThan(7)
  expect(said.filter((text) => /\p{L}/u.test(text) && !/^‹.*›$/u.test(text))).toEqual([])
})

// What people see and no translator would: text outside of Trans, and attributes that are read out or shown with a plain string.
const shown = new Set(['title', 'label', 'placeholder', 'aria-label', 'hint', 'about', 'action', 'button', 'caption', 'aside', 'alt', 'says', 'what', 'word', 'facts', 'beside', 'plain'])
const named = new Set(['title', 'label', 'head', 'text', 'says', 'hint', 'caption', 'about', 'section'])
const ours = /^(Nest Seed|NULL)$/ // names, in any language

function bareWords(file: string): string[] {
  const source = ts.createSourceFile(file, readFileSync(file, 'utf8'), ts.ScriptTarget.ESNext, true, file.endsWith('x') ? ts.ScriptKind.TSX : ts.ScriptKind.TS)
  const found: string[] = []
  const words = (n: ts.Node, text: string) => {
    const said = text.replace(/&\w+;/g, '').trim()
    if (/\p{L}{2}/u.test(said) && !ours.test(said)) found.push(`${file}:${source.getLineAndCharacterOfPosition(n.getStart()).line + 1}: ${said}`)
  }
  /** The strings that an expression may come to. */
  const strings = (n: ts.Node): void => {
    if (ts.isStringLiteralLike(n)) words(n, n.text)
    else if (ts.isTemplateExpression(n)) words(n, [n.head, ...n.templateSpans.map((s) => s.literal)].map((part) => part.text).join(' '))
    else if (ts.isConditionalExpression(n)) [n.whenTrue, n.whenFalse].forEach(strings)
    else if (ts.isParenthesizedExpression(n)) strings(n.expression)
    else if (ts.isBinaryExpression(n) && /^(\|\||&&|\?\?|\+)$/.test(n.operatorToken.getText())) [n.left, n.right].forEach(strings)
  }
  const walk = (n: ts.Node, inTrans: boolean): void => {
    if (ts.isJsxText(n) && !inTrans) words(n, n.text)
    if (ts.isJsxExpression(n) && n.expression && !ts.isJsxAttribute(n.parent)) strings(n.expression)
    if (ts.isJsxAttribute(n) && shown.has(n.name.getText()) && n.initializer) strings(ts.isJsxExpression(n.initializer) ? n.initializer.expression! : n.initializer)
    if (ts.isPropertyAssignment(n) && named.has(n.name.getText())) strings(n.initializer)
    const within = ts.isJsxElement(n) ? n.openingElement.tagName.getText() === 'Trans' || inTrans : inTrans && !ts.isJsxExpression(n)
    ts.forEachChild(n, (child) => walk(child, within))
  }
  walk(source, false)
  return found
}

it('has no words that cannot be translated', { timeout: 60_000 }, () => {
  const files = readdirSync('src', { recursive: true, encoding: 'utf8' }).filter((f) => /\.tsx?$/.test(f) && !/\.test\.|\.d\.ts$|^testing|^pages\/parts\//.test(f))
  expect(files.length).toBeGreaterThan(100)
  expect(files.flatMap((f) => bareWords(`src/${f}`))).toEqual([])
})
