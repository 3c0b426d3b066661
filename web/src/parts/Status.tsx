import { Trans } from '@lingui/react/macro'
import { AlertTriangle, Ban, Check, CircleDashed, Info, LoaderCircle, X, type LucideIcon } from 'lucide-react'
import type { ReactNode } from 'react'
import { called } from '../lib/called'
import { cx } from './cx'

export type Tone = 'good' | 'wrong' | 'look' | 'plain'

const toneLook: Record<Tone, string> = {
  good: 'text-leaf-strong bg-leaf-wash',
  wrong: 'text-clay bg-clay-wash',
  look: 'text-amber bg-amber-wash',
  plain: 'text-soft bg-bench',
}

/** Status is icon and word, never colour alone. */
export function Status({ tone, icon: Icon, children }: { tone: Tone; icon: LucideIcon; children: ReactNode }) {
  return (
    <span className={cx('inline-flex items-center gap-1 px-1.5 py-px rounded-sm font-semibold whitespace-nowrap', toneLook[tone])}>
      <Icon size={13} strokeWidth={2.4} aria-hidden />{children}
    </span>
  )
}

export function RunStatus({ status }: { status: string }) {
  switch (status) {
    case 'done': return <Status tone="good" icon={Check}><Trans>done</Trans></Status>
    case 'failed': return <Status tone="wrong" icon={X}><Trans>failed</Trans></Status>
    case 'cancelled': return <Status tone="look" icon={Ban}><Trans>cancelled</Trans></Status>
    case 'cleanup-failed': return <Status tone="wrong" icon={AlertTriangle}><Trans>cleanup failed</Trans></Status>
    case 'working': return <Status tone="plain" icon={LoaderCircle}><Trans>working</Trans></Status>
  }
  return <Status tone="plain" icon={CircleDashed}><Trans>waiting</Trans></Status>
}

export function Result({ result }: { result: string }) {
  switch (result) {
    case 'pass': return <Status tone="good" icon={Check}>{called(result)}</Status>
    case 'fail': case 'fault': return <Status tone="wrong" icon={X}>{called(result)}</Status>
    case 'warn': case 'warning': return <Status tone="look" icon={AlertTriangle}>{called(result)}</Status>
  }
  return <Status tone="plain" icon={Info}>{called(result)}</Status>
}
