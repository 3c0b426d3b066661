import { useEffect, useRef, useState } from 'react'
import { useLocation } from 'react-router'

/** After going to another page, its heading has the focus and is announced. */
export function PageFocus() {
  const { pathname } = useLocation()
  const [says, setSays] = useState('')
  const before = useRef<string | null>(null)
  useEffect(() => {
    if (before.current === pathname) return
    before.current = pathname
    let tries = 0
    const timer = setInterval(() => {
      const heading = document.querySelector<HTMLElement>('main h1')
      if (heading || ++tries > 40) clearInterval(timer)
      if (!heading) return
      setSays(heading.innerText)
      const at = document.activeElement
      if (!at || at === document.body || at.closest('nav, footer') || !document.contains(at)) heading.focus({ preventScroll: true })
    }, 50)
    window.scrollTo(0, 0)
    return () => clearInterval(timer)
  }, [pathname])
  return <p aria-live="polite" className="sr-only">{says}</p>
}
