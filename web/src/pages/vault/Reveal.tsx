import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { Eye, EyeOff } from 'lucide-react'
import { useEffect, useRef } from 'react'
import { useReveal } from '../../api/hooks'
import { Button } from '../../parts/Button'
import { Copy } from '../../parts/Copy'
import { Ask } from '../../parts/Dialog'

/** A masked secret. Revealing asks, and is recorded. */
export function Reveal({ noun, owner, name }: { noun: string; owner: string; name: string }) {
  const reveal = useReveal()
  const hide = useRef<HTMLButtonElement>(null)
  const shown = reveal.data !== undefined
  // The window that asked has given the focus back by then, to a button that is gone.
  useEffect(() => {
    if (!shown) return
    const given = setTimeout(() => hide.current?.focus(), 80)
    return () => clearTimeout(given)
  }, [shown])
  if (reveal.data) {
    return (
      <span className="inline-flex flex-wrap items-center gap-2 min-w-0">
        <code className="font-mono select-all break-all">{reveal.data.secret}</code>
        <Copy text={reveal.data.secret} what={name} />
        <Button small ref={hide} onClick={() => reveal.reset()} aria-label={t`Hide ${name}`}><EyeOff size={14} aria-hidden /><Trans>Hide</Trans></Button>
      </span>
    )
  }
  return (
    <span className="inline-flex items-center gap-2">
      <span className="text-soft tracking-widest" aria-hidden>••••••••</span>
      <Ask small of={t`Reveal: ${name} of ${owner}`} button={<><Eye size={14} aria-hidden /><Trans>Reveal</Trans></>} title={t`Reveal ${name} of ${owner}?`} about={t`It is shown on this page until you hide it or leave. That you saw it is recorded.`} action={t`Reveal`}
        onSubmit={() => reveal.mutateAsync({ noun, owner, name })} />
    </span>
  )
}
