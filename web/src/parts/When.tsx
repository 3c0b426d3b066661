import { useEffect, useState } from 'react'
import { day, since } from '../lib/format'

/** How long ago something was, or when it will be; the exact time on hover. */
export function When({ at }: { at: string }) {
  const [now, setNow] = useState(Date.now)
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), 30_000)
    return () => clearInterval(timer)
  }, [])
  return <time dateTime={at} title={day(at)} className="whitespace-nowrap">{since(at, now)}</time>
}
