import { ExternalLink } from 'lucide-react'
import { Fragment, type ReactNode } from 'react'
import { Link } from 'react-router'

/** Leads to a page of the console. */
export const To = ({ to, children }: { to: string; children: ReactNode }) => (
  <Link to={to} className="font-semibold text-ink hover:text-leaf-strong underline-offset-2 hover:underline">{children}</Link>
)

/** An address, which breaks behind its dots and slashes where there is no room for it. */
const breakable = (address: string) => address.split(/(?<=[./:])/).map((part, i) => <Fragment key={i}>{part}<wbr /></Fragment>)

/** Leads out, to a site. */
export const Out = ({ href, children }: { href: string; children?: ReactNode }) => (
  <a href={href} target="_blank" rel="noreferrer"
    className="font-mono hover:text-leaf-strong underline underline-offset-2 decoration-line-strong break-words">
    {children ?? breakable(href.replace(/^https?:\/\//, ''))}
  </a>
)

export const OutIcon = () => <ExternalLink size={13} aria-hidden />
