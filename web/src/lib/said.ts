// What the service says, in the language of the console. The service speaks English: src/words/service/en.po has how each of its sentences
// may look (docs/words gathers them), and another language has the same file, translated. A sentence is known by what is the same in all
// of its kind; what stands between is put into the translation, translated itself where it is known.
import { i18n, type Messages } from '@lingui/core'
import { sentences } from '../api/sentences'

type Part = string | number

/** How a sentence may look: its words, with numbers where values stand. */
type Pattern = { id: string; parts: Part[]; words: number; longest: string; exactly?: RegExp }

let plain = new Map<string, string>() // whole sentences without values, to their messages
let patterns: Pattern[] = []
let known = new Map<string, string>()

const fewestLetters = 8 // of a pattern for a value: a name may have "of" in it

/** Has the service's sentences understood, from how they look in English; nothing where the console speaks English. */
export function understand(english: Messages) {
  plain = new Map()
  known = new Map()
  patterns = []
  for (const [id, message] of Object.entries(english)) {
    const parts = (typeof message === 'string' ? [message] : message).map((p) => (typeof p === 'string' ? p : Number(p[0]))).filter((p) => p !== '')
    if (parts.every((p) => typeof p === 'string')) plain.set(parts.join(''), id)
    else {
      const texts = parts.filter((p) => typeof p === 'string')
      patterns.push({ id, parts, words: texts.join('').replace(/[^\p{L}]/gu, '').length, longest: texts.sort((a, b) => b.length - a.length)[0] ?? '' })
    }
  }
  patterns.sort((a, b) => b.words - a.words)
}

const escaped = (text: string) => text.replace(/[.*+?^${}()|[\]\\/]/g, '\\$&')

/** The values in a sentence that looks like a pattern, by their numbers. */
function valuesIn(text: string, p: Pattern): Record<string, string> | null {
  if (!text.includes(p.longest)) return null
  p.exactly ??= new RegExp(`^${p.parts.map((part) => (typeof part === 'string' ? escaped(part) : '([^]*?)')).join('')}$`, 'u')
  const found = p.exactly.exec(text)
  if (!found) return null
  const numbers = p.parts.filter((part) => typeof part === 'number')
  return Object.fromEntries(numbers.map((n, i) => [n, found[i + 1]!]))
}

function translated(text: string, fewest: number): string | null {
  const whole = plain.get(text)
  if (whole) return i18n._(whole)
  for (const p of patterns) {
    if (p.words < fewest) break
    const values = valuesIn(text, p)
    if (values) return i18n._(p.id, Object.fromEntries(Object.entries(values).map(([n, value]) => [n, within(value)])))
  }
  return null
}

/** A part of a sentence: a number as one, so that words may follow it, and what is a sentence itself translated. */
function within(value: string): string | number {
  if (/^\d{1,15}$/.test(value)) return Number(value)
  return translated(value, fewestLetters) ?? apart(value) ?? value
}

/** What was put together of several sentences, where one of them is known. */
function apart(text: string): string | null {
  for (const between of ['; ', ': ', ', ']) {
    const at = text.indexOf(between)
    if (at <= 0) continue
    const first = text.slice(0, at), rest = text.slice(at + between.length)
    const one = translated(first, fewestLetters), other = translated(rest, fewestLetters) ?? apart(rest)
    if (one !== null || other !== null) return `${one ?? first}${between}${other ?? rest}`
  }
  return null
}

/** A sentence of the service's. */
export function said(text: string): string {
  if (patterns.length === 0 || !text) return text
  let ours = known.get(text)
  if (ours === undefined) {
    ours = translated(text, 0) ?? apart(text) ?? text
    if (known.size > 5000) known.clear()
    known.set(text, ours)
  }
  return ours
}

/** An answer of the service, with its sentences in the language of the console. */
export function inOurWords<T>(answer: T): T {
  return patterns.length === 0 ? answer : (spoken(answer) as T)
}

function spoken(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(spoken)
  if (value === null || typeof value !== 'object') return value
  const isRun = 'job' in value // its title says what it does; that of anything else is its owner's
  return Object.fromEntries(Object.entries(value).map(([name, of]) => [name, sentences.has(name) || (isRun && name === 'title') ? heard(of) : spoken(of)]))
}

/** A field of sentences. One word by itself is a name that the console knows, as of why a copy was kept. */
const heard = (value: unknown): unknown => (typeof value === 'string' ? (value.includes(' ') ? said(value) : value) : Array.isArray(value) ? value.map(heard) : spoken(value))
