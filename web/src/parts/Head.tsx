import { t } from '@lingui/core/macro'
import { useEffect, type ReactNode } from 'react'
import { Link } from 'react-router'

export type Crumb = { to: string; label: string }

type HeadProps = {
  title: ReactNode
  plain?: string // the title as text, where it is more than that
  crumbs?: Crumb[]
  beside?: ReactNode
  facts?: ReactNode
  children?: ReactNode
}

/** The head of a page: where it is, what it is, what is said of it, what one does next. It names the window too. */
export function Head({ title, plain, crumbs, beside, facts, children }: HeadProps) {
  const words = plain ?? (typeof title === 'string' ? title : '')
  useEffect(() => {
    document.title = words ? `${words} · Nest Seed` : 'Nest Seed'
  }, [words])
  return (
    <header className="mb-4">
      {crumbs && crumbs.length > 0 && <Crumbs crumbs={crumbs} />}
      <div className="flex items-center flex-wrap gap-x-3 gap-y-2 min-h-9">
        <h1 tabIndex={-1} className="text-[1.5rem] font-bold leading-tight tracking-tight break-words min-w-0 outline-none">{title}</h1>
        {beside}
        <div className="ml-auto flex flex-wrap gap-2">{children}</div>
      </div>
      {facts && <p className="mt-2 flex flex-wrap gap-x-6 gap-y-1 text-soft">{facts}</p>}
    </header>
  )
}

function Crumbs({ crumbs }: { crumbs: Crumb[] }) {
  return (
    <nav aria-label={t`Where this is`} className="text-soft mb-0.5">
      <ol className="flex flex-wrap">
        {crumbs.map((c) => (
          <li key={c.to}>
            <Link to={c.to} className="hover:text-ink hover:underline underline-offset-2">{c.label}</Link>
            <span className="text-faint mx-1.5" aria-hidden>/</span>
          </li>
        ))}
      </ol>
    </nav>
  )
}
