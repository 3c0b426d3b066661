// Which language the console speaks. It is settled before anything else of it is read, so that words may stand anywhere in it; another one
// is chosen by reading the page again.
import { i18n, type Messages } from '@lingui/core'
import { understand } from './lib/said'

type Language = {
  formats: string // the locale that numbers, times and lists are written by (BCP 47)
  words: () => Promise<{ messages: Messages }>
  service?: () => Promise<{ messages: Messages }> // the words of what the service says, but for English, which it says itself
}

/** The languages that there are, each with its file of words (see "Where things go" in CONTRIBUTING.md). */
const languages: Record<string, Language> = {
  en: { formats: 'en-GB', words: () => import('./words/en.po') },
}

/** The first of the languages that somebody reads which there is; English where there is none. */
export function chosenOf(read: readonly string[], there: string[]): string {
  for (const wanted of read) {
    const found = there.find((one) => wanted === one || wanted.startsWith(`${one}-`))
    if (found) return found
  }
  return 'en'
}

/** Reads the words of the language that the browser's owner reads. */
export async function settleLanguage() {
  const name = chosenOf(navigator.languages, Object.keys(languages))
  const language = languages[name]!
  const { messages } = await language.words()
  speak(name, language.formats, messages)
  if (language.service) hearService((await import('./words/service/en.po')).messages, (await language.service()).messages)
  document.documentElement.lang = name
}

/** Has the console speak a language from here on. */
export function speak(name: string, formats: string, messages: Messages) {
  i18n.load(name, messages)
  i18n.activate(name, formats)
}

/** Has what the service says put into the language that is spoken: how it looks in English, and translated. */
export function hearService(english: Messages, messages: Messages) {
  i18n.load(i18n.locale, messages)
  understand(english)
}

/** The locale that numbers, times and lists are written by. */
export const formats = () => i18n.locales ?? i18n.locale
