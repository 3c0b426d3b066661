import { plural, t } from '@lingui/core/macro'
import type { Release, Starter } from '../../api/client'
import { size } from '../../lib/format'

/** How much larger or smaller an archive is than that of the release before. */
export function difference(r: Release): string {
  if (r.before_bytes === undefined) return t`first`
  const d = r.archive_bytes - r.before_bytes
  return `${d < 0 ? '−' : '+'}${size(Math.abs(d))}`
}

/** The same, as a sentence. */
export function changeSentence(r: Release): string {
  if (r.before_bytes === undefined) return t`The first release of this starter.`
  const d = r.archive_bytes - r.before_bytes
  if (d === 0) return t`As large as the release before.`
  return t`${difference(r)} against the release before.`
}

/** Which archives of a starter are kept. */
export function retention(starter: Starter): string {
  const { last, weeks } = starter.retention
  if (last === 0 && weeks === 0) return t`all archives are kept`
  const those = last > 1 ? t`the last ${last} archives are kept` : t`the last archive is kept`
  return weeks ? t`${those}, and one a week for ${plural(weeks, { one: '# week', other: '# weeks' })}` : those
}
