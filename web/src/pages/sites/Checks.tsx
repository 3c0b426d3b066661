import { plural } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { AlertTriangle, Check, CircleDashed, X } from 'lucide-react'
import type { CheckReport, Schemas } from '../../api/client'
import { Status } from '../../parts/Status'

/** The checks of a site in one status. */
export function Checks({ counts }: { counts: Schemas['CheckCounts'] }) {
  const open = counts.warned - counts.accepted
  if (!counts.at) return <Status tone="plain" icon={CircleDashed}><Trans>not checked</Trans></Status>
  if (counts.failed > 0) return <Status tone="wrong" icon={X}>{plural(counts.failed, { one: '# fault', other: '# faults' })}</Status>
  if (open > 0) return <Status tone="look" icon={AlertTriangle}>{plural(open, { one: '# issue', other: '# issues' })}</Status>
  return <Status tone="good" icon={Check}><Trans>{counts.passed + counts.accepted} pass</Trans></Status>
}

/** The same, counted from a report. A fault that is accepted counts as a warning that is. */
export function countsOf(report?: CheckReport, accepted: Schemas['Acceptance'][] = []): Schemas['CheckCounts'] {
  const known = (c: Schemas['Check']) => c.result !== 'pass' && accepted.some((a) => a.what === c.name)
  const of = (v: string, isKnown: boolean) => report?.checks.filter((c) => c.result === v && known(c) === isKnown).length ?? 0
  const all = of('warn', true) + of('fail', true)
  return { at: report?.at, passed: of('pass', false), warned: of('warn', false) + all, failed: of('fail', false), accepted: all }
}
