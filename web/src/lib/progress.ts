import { plural, t } from '@lingui/core/macro'
import type { Run } from '../api/client'
import { count, millis, size } from './format'

/** How far a run is, as a sentence: what is done of what is expected, how fast, how long still. */
export function progressSentence(run: Run): string {
  const p = run.progress
  if (run.status === 'waiting') return t`waiting for its turn`
  if (run.status === 'cleanup-failed') return t`has failed; what it made could not be taken back yet`
  const parts = [(p.step ?? '').toLowerCase()]
  if (p.expected?.files) parts.push(p.done.files > p.expected.files ? t`${plural(p.done.files, { one: '# file', other: '# files' })}` : t`files ${count(p.done.files)} of ${count(p.expected.files)}`)
  if (p.done?.rows) parts.push(t`${plural(p.done.rows, { one: '# row', other: '# rows' })}`)
  if (p.bytes_per_second > 0) parts.push(t`${size(Math.round(p.bytes_per_second))}/s`)
  if (p.seconds_left > 0) parts.push(t`${millis(p.seconds_left * 1000)} left`)
  return parts.filter(Boolean).join(' · ')
}
