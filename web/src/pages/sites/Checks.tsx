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
  if (open > 0) return <Status tone="look" icon={AlertTriangle}><Trans>{open} to look at</Trans></Status>
  return <Status tone="good" icon={Check}><Trans>{counts.passed + counts.accepted} pass</Trans></Status>
}

/** The same, counted from a report. */
export function countsOf(report?: CheckReport, accepted = 0): Schemas['CheckCounts'] {
  const of = (v: string) => report?.checks.filter((c) => c.result === v).length ?? 0
  return { at: report?.at, passed: of('pass'), warned: of('warn'), failed: of('fail'), accepted }
}
