import { AlertTriangle, Check, CircleDashed, X } from 'lucide-react'
import type { CheckReport, Schemas } from '../../api/client'
import { plural } from '../../lib/format'
import { Status } from '../../parts/Status'

/** The checks of a site in one status. */
export function Checks({ counts }: { counts: Schemas['CheckCounts'] }) {
  const open = counts.warned - counts.accepted
  if (!counts.at) return <Status tone="plain" icon={CircleDashed}>not checked</Status>
  if (counts.failed > 0) return <Status tone="wrong" icon={X}>{plural(counts.failed, 'fault')}</Status>
  if (open > 0) return <Status tone="look" icon={AlertTriangle}>{open} to look at</Status>
  return <Status tone="good" icon={Check}>{counts.passed + counts.accepted} pass</Status>
}

/** The same, counted from a report. */
export function countsOf(report?: CheckReport, accepted = 0): Schemas['CheckCounts'] {
  const of = (v: string) => report?.checks.filter((c) => c.result === v).length ?? 0
  return { at: report?.at, passed: of('pass'), warned: of('warn'), failed: of('fail'), accepted }
}
