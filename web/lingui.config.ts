import { defineConfig } from '@lingui/cli'
import { formatter } from '@lingui/format-po'

const ofConsole = { path: 'src/words/{locale}', include: ['src'], exclude: ['**/*.test.*', '**/testing/**'] }
// What the service says is gathered from its own source (docs/words), so words.mjs looks for nothing here.
const ofService = { path: 'src/words/service/{locale}', include: [] }

// The sentences of the console, in one file a language. English is what the source says; another language is a copy of its file that is
// translated, and a line in src/language.ts.
export default defineConfig({
  sourceLocale: 'en',
  locales: ['en'],
  catalogs: process.env.LINGUI_GATHERS ? [ofConsole] : [ofConsole, ofService],
  format: formatter({ lineNumbers: false }),
  orderBy: 'message', // that of places is another one on each machine
})
