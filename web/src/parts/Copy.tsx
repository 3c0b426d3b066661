import { t } from '@lingui/core/macro'
import { Check, Copy as CopyIcon } from 'lucide-react'
import { useState } from 'react'
import { Button } from './Button'

/** Puts a text on the clipboard. */
export function Copy({ text, what }: { text: string; what: string }) {
  const [done, setDone] = useState(false)
  const copy = async () => {
    await navigator.clipboard.writeText(text)
    setDone(true)
    setTimeout(() => setDone(false), 1500)
  }
  return (
    <Button small aria-label={t`Copy ${what}`} onClick={() => void copy()}>
      {done ? <Check size={12} aria-hidden /> : <CopyIcon size={12} aria-hidden />}{done ? t`Copied` : t`Copy`}
    </Button>
  )
}
