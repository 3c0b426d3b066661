import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { CircleHelp } from 'lucide-react'
import { Popover } from 'radix-ui'
import { help } from '../lib/help'

/** What a field is for, and where the guide has more: behind a small sign beside its label, where there is something to say. */
export function Help({ schema, field, label }: { schema?: string; field: string; label: string }) {
  const says = schema ? help[schema]?.[field] : undefined
  if (!says) return null
  return (
    <Popover.Root>
      <Popover.Trigger aria-label={t`What is ${label}?`} className="text-faint hover:text-ink rounded-full"><CircleHelp size={14} aria-hidden /></Popover.Trigger>
      <Popover.Portal>
        <Popover.Content side="top" align="start" sideOffset={4} collisionPadding={12} aria-label={label} className="z-50 max-w-80 bg-sheet border border-line-strong rounded-md px-3 py-2">
          <p>{says.text}</p>
          <p className="text-soft mt-1"><Trans>The guide: “{says.section}”</Trans></p>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  )
}
