import type { Release, Starter } from '../../api/client'
import { plural, size } from '../../lib/format'

/** How much larger or smaller an archive is than that of the release before. */
export function difference(r: Release): string {
  if (r.before_bytes === undefined) return 'first'
  const d = r.archive_bytes - r.before_bytes
  return `${d < 0 ? '−' : '+'}${size(Math.abs(d))}`
}

/** The same, as a sentence. */
export function changeSentence(r: Release): string {
  if (r.before_bytes === undefined) return 'The first release of this starter.'
  const d = r.archive_bytes - r.before_bytes
  if (d === 0) return 'As large as the release before.'
  return `${difference(r)} against the release before.`
}

/** Which archives of a starter are kept. */
export function retention(t: Starter): string {
  const { last, weeks } = t.retention
  if (last === 0 && weeks === 0) return 'all archives are kept'
  const those = last > 1 ? `the last ${last} archives are kept` : 'the last archive is kept'
  return weeks ? `${those}, and one a week for ${plural(weeks, 'week')}` : those
}
