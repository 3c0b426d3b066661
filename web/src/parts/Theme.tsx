import { t } from '@lingui/core/macro'
import { Moon, Sun } from 'lucide-react'
import { useState } from 'react'

const isDark = () => (document.documentElement.dataset.theme ?? (matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light')) === 'dark'

/** Light or dark; remembered. */
export function Theme() {
  const [dark, setDark] = useState(isDark)
  const flip = () => {
    const next = dark ? 'light' : 'dark'
    document.documentElement.dataset.theme = next
    localStorage.setItem('theme', next)
    setDark(!dark)
  }
  const Icon = dark ? Sun : Moon
  return (
    <button type="button" onClick={flip} aria-label={dark ? t`Use the light theme` : t`Use the dark theme`} className="p-1 text-soft hover:text-ink">
      <Icon size={15} aria-hidden />
    </button>
  )
}
