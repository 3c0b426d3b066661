import type { ComponentProps, ReactNode } from 'react'
import { Link } from 'react-router'
import { cx } from './cx'

type Look = { primary?: boolean; danger?: boolean; small?: boolean }

const base = 'inline-flex items-center justify-center gap-1.5 rounded font-semibold border disabled:opacity-50 whitespace-nowrap'

/** The look of a button: one primary act a page; what cannot be undone is clay. */
export function buttonLook({ primary, danger, small }: Look): string {
  return cx(
    base,
    small ? 'h-[22px] px-2 text-[0.92rem]' : 'h-8 px-3',
    danger && primary && 'bg-clay border-clay text-on-clay hover:brightness-90',
    danger && !primary && 'bg-sheet border-clay/50 text-clay hover:border-clay',
    !danger && primary && 'bg-leaf border-leaf text-on-leaf hover:bg-leaf-strong',
    !danger && !primary && 'bg-sheet border-line-strong/60 hover:border-ink text-ink',
  )
}

export function Button({ primary, danger, small, className, ...rest }: ComponentProps<'button'> & Look) {
  return <button type="button" {...rest} className={cx(buttonLook({ primary, danger, small }), className)} />
}

type LinkProps = Look & { to: string; children: ReactNode; download?: boolean; out?: boolean }

/** A link that looks like a button: to a page of the console, to a file, or out to a site. */
export function ButtonLink({ to, children, download, out, ...look }: LinkProps) {
  if (out) return <a href={to} target="_blank" rel="noreferrer" className={buttonLook(look)}>{children}</a>
  if (download) return <a href={to} className={buttonLook(look)}>{children}</a>
  return <Link to={to} className={buttonLook(look)}>{children}</Link>
}
