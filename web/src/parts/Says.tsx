import { Trans } from '@lingui/react/macro'
import { useEffect, useRef, type ReactNode } from 'react'
import { Problem } from '../api/client'

/** What has gone wrong, brought into view. That the service does not answer, or nobody is logged in, is said over the page, once; own is what
 * the log-in itself has to say. */
export function Trouble({ error, own }: { error: Error | null | undefined; own?: boolean }) {
  const at = useRef<HTMLParagraphElement>(null)
  useEffect(() => { at.current?.scrollIntoView({ block: 'nearest' }) }, [error]) // which may promise something, and that is no clean-up
  if (!error || (error instanceof Problem && (error.away || (error.loggedOut && !own)))) return null
  return <p ref={at} role="alert" className="text-clay bg-clay-wash rounded px-3 py-2 my-2 break-words">{error.message}</p>
}

export const Loading = () => <p className="text-faint px-4 py-2" role="status"><Trans>reading…</Trans></p>

/** What a list says when there is nothing in it: what to do. */
export function Empty({ children }: { children: ReactNode }) {
  return <div className="px-4 pb-4 pt-1 text-soft">{children}</div>
}

/** A part of a page that shows its data, or that it is being read, or why it could not be. */
export function Shown<T>({ of, children }: { of: { data?: T; error: Error | null; isPending: boolean }; children: (data: T) => ReactNode }) {
  if (of.data !== undefined) return <>{children(of.data)}</>
  if (of.error) return <div className="px-4 py-1"><Trouble error={of.error} /></div>
  return <Loading />
}
