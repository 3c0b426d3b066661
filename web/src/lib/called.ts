import { t } from '@lingui/core/macro'

// The short words that the service answers with: areas, states, results, roles, types of fields, nouns.
const names: Partial<Record<string, string>> = {
  core: t`core`, extensions: t`extensions`, themes: t`themes`, media: t`media`, languages: t`languages`, database: t`database`, other: t`other`,
  in: t`in`, out: t`out`, empty: t`empty`,
  pass: t`pass`, fail: t`fail`, warn: t`warn`, fault: t`fault`, warning: t`warning`, note: t`note`,
  waiting: t`waiting`, working: t`working`, done: t`done`, failed: t`failed`, cancelled: t`cancelled`,
  owner: t`owner`, builder: t`builder`, viewer: t`viewer`,
  text: t`text`, 'long-text': t`long text`, email: t`mail address`, number: t`number`, colour: t`colour`, image: t`picture`, file: t`file`, page: t`page`, 'menu-entry': t`entry of a menu`,
  site: t`site`, source: t`source`, starter: t`starter`, release: t`release`, host: t`host`, client: t`client`, install: t`install`, run: t`run`,
}

/** What people call a word of the service; one that is not known here stands as it is. */
export const called = (word: string) => names[word] ?? word
