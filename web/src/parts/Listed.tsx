import { Fragment, type ReactNode } from 'react'
import { parted } from '../lib/format'

/** Several things in a row as the language says them: a host, a release and a client. */
export function Listed({ of }: { of: ReactNode[] }) {
  let at = 0
  return <>{parted(of.length).map((part, i) => <Fragment key={i}>{part ?? of[at++]}</Fragment>)}</>
}
