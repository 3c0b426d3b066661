import { AlertTriangle, Check, CircleDashed, X } from 'lucide-react'
import type { CheckReport } from '../../api/client'
import { Status } from '../../parts/basics'

/** The checks of a site in one status. */
export function Checks({ report }: { report?: CheckReport }) {
  if (!report) return <Status tone="plain" icon={CircleDashed}>not checked</Status>
  const of = (v: string) => report.checks.filter((c) => c.result === v).length
  if (of('fail') > 0) return <Status tone="wrong" icon={X}>{of('fail')} failed</Status>
  if (of('warn') > 0) return <Status tone="look" icon={AlertTriangle}>{of('pass')} passed, {of('warn')} warn</Status>
  return <Status tone="good" icon={Check}>{of('pass')} passed</Status>
}
