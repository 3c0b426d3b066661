// Gathers the words of the console into src/words: a build has only those that stand there. With --check it fails when they were not there as
// the source has them, and are to be committed.
import { spawnSync } from 'node:child_process'
import { readFileSync } from 'node:fs'

const file = 'src/words/en.po'
const before = readFileSync(file, 'utf8')
const run = spawnSync('npx', ['lingui', 'extract', '--clean', '--workers', '1'], { encoding: 'utf8', env: { ...process.env, LINGUI_GATHERS: 'yes' } })
if (run.status !== 0) {
  console.error(run.stdout + run.stderr)
  process.exit(1)
}
if (process.argv.includes('--check') && readFileSync(file, 'utf8') !== before) {
  console.error(`web/${file} was not as the source has it; it is now. Commit it with your change.`)
  process.exit(1)
}
