// Small parts that all pages are made of.
import { AlertTriangle, Ban, Check, CircleDashed, Info, LoaderCircle, X, type LucideIcon } from 'lucide-react'
import type { ButtonHTMLAttributes, InputHTMLAttributes, ReactNode, SelectHTMLAttributes } from 'react'
import { Link } from 'react-router'
import { size } from './format'

export const cx = (...names: (string | false | undefined)[]) => names.filter(Boolean).join(' ')

const buttonLook = 'inline-flex items-center gap-1.5 rounded font-semibold border disabled:opacity-50 whitespace-nowrap'
const fullSize = 'h-8 px-3'
const inRow = 'h-[22px] px-2 text-[0.92rem]' // leaves air in a row of 28 px
const quiet = 'bg-sheet border-line-strong/60 hover:border-ink text-ink'
const primaryLook = 'bg-leaf border-leaf text-on-leaf hover:bg-leaf-strong'

export function Button({ primary, small, className, ...rest }: ButtonHTMLAttributes<HTMLButtonElement> & { primary?: boolean; small?: boolean }) {
  return <button type="button" {...rest} className={cx(buttonLook, small ? inRow : fullSize, primary ? primaryLook : quiet, className)} />
}

export function ButtonLink({ primary, small, to, children, download }: { primary?: boolean; small?: boolean; to: string; children: ReactNode; download?: boolean }) {
  const look = cx(buttonLook, small ? inRow : fullSize, primary ? primaryLook : quiet)
  return download ? <a href={to} className={look}>{children}</a> : <Link to={to} className={look}>{children}</Link>
}

/** The head of a page: what it is, what is said of it, what one does next. */
export function Head({ title, beside, facts, children }: { title: ReactNode; beside?: ReactNode; facts?: ReactNode; children?: ReactNode }) {
  return (
    <header className="mb-4">
      <div className="flex items-center gap-3 min-h-9">
        <h1 className="text-[1.5rem] font-bold leading-none tracking-tight">{title}</h1>
        {beside}
        <div className="ml-auto flex gap-2">{children}</div>
      </div>
      {facts && <p className="mt-2 flex flex-wrap gap-x-6 gap-y-1 text-soft">{facts}</p>}
    </header>
  )
}

export function Sheet({ title, aside, children, className }: { title?: ReactNode; aside?: ReactNode; children: ReactNode; className?: string }) {
  return (
    <section className={cx('bg-sheet border border-line rounded-md', className)}>
      {title && (
        <div className="flex items-baseline justify-between gap-4 px-4 pt-3 pb-2">
          <h2 className="font-bold text-[1.05rem]">{title}</h2>
          {aside && <div className="text-soft">{aside}</div>}
        </div>
      )}
      {children}
    </section>
  )
}

export function Field({ label, hint, fault, children }: { label: string; hint?: ReactNode; fault?: string; children: (id: string, describedBy?: string) => ReactNode }) {
  const id = `f-${label.toLowerCase().replace(/[^a-z0-9]+/g, '-')}`
  const note = fault ?? hint
  return (
    <div>
      <label htmlFor={id} className="block font-semibold mb-1">{label}</label>
      {children(id, note ? `${id}-note` : undefined)}
      {note && <p id={`${id}-note`} className={cx('mt-1', fault ? 'text-clay' : 'text-faint')}>{note}</p>}
    </div>
  )
}

const inputLook = 'block w-full h-8 px-2.5 rounded border bg-sheet text-ink placeholder:text-faint'

export function Input({ fault, className, ...rest }: InputHTMLAttributes<HTMLInputElement> & { fault?: boolean }) {
  return <input {...rest} aria-invalid={fault || undefined} className={cx(inputLook, fault ? 'border-clay' : 'border-line-strong/60', className)} />
}

export function Select({ children, ...rest }: SelectHTMLAttributes<HTMLSelectElement>) {
  return <select {...rest} className={cx(inputLook, 'border-line-strong/60')}>{children}</select>
}

/** A size beside its bar; the bar is the share of the largest. */
export function SizeBar({ bytes, most, area, width = 'w-28' }: { bytes: number; most: number; area?: string; width?: string }) {
  const share = most > 0 ? Math.max(bytes > 0 ? 1 : 0, (bytes / most) * 100) : 0
  return (
    <span className={cx('inline-block h-2 rounded-sm bg-line overflow-hidden align-middle', width)} aria-hidden>
      <span className={cx('block h-full', area === undefined ? 'bg-leaf' : `area area-${area || 'mixed'}`)} style={{ width: `${share}%` }} />
    </span>
  )
}

export const Bytes = ({ of }: { of: number }) => <span className="font-mono whitespace-nowrap">{size(of)}</span>

type Tone = 'good' | 'wrong' | 'look' | 'plain'
const toneLook: Record<Tone, string> = {
  good: 'text-leaf-strong bg-leaf-wash', wrong: 'text-clay bg-clay-wash', look: 'text-amber bg-amber-wash', plain: 'text-soft bg-bench',
}

/** Status is icon and word, never colour alone. */
export function Status({ tone, icon: Icon, children }: { tone: Tone; icon: LucideIcon; children: ReactNode }) {
  return (
    <span className={cx('inline-flex items-center gap-1 px-1.5 py-px rounded-sm font-semibold whitespace-nowrap', toneLook[tone])}>
      <Icon size={13} strokeWidth={2.4} aria-hidden />{children}
    </span>
  )
}

export function RunStatus({ status }: { status: string }) {
  switch (status) {
    case 'done': return <Status tone="good" icon={Check}>done</Status>
    case 'failed': return <Status tone="wrong" icon={X}>failed</Status>
    case 'cancelled': return <Status tone="look" icon={Ban}>cancelled</Status>
    case 'cleanup-failed': return <Status tone="wrong" icon={AlertTriangle}>cleanup failed</Status>
    case 'working': return <Status tone="plain" icon={LoaderCircle}>working</Status>
  }
  return <Status tone="plain" icon={CircleDashed}>waiting</Status>
}

export function Result({ result }: { result: string }) {
  switch (result) {
    case 'pass': return <Status tone="good" icon={Check}>pass</Status>
    case 'fail': case 'fault': return <Status tone="wrong" icon={X}>{result}</Status>
    case 'warn': case 'warning': return <Status tone="look" icon={AlertTriangle}>{result}</Status>
  }
  return <Status tone="plain" icon={Info}>{result}</Status>
}

export function Trouble({ error }: { error: Error | null | undefined }) {
  if (!error) return null
  return <p role="alert" className="text-clay bg-clay-wash rounded px-3 py-2 my-2">{error.message}</p>
}

export const Loading = () => <p className="text-faint py-2" role="status">reading…</p>

export function Empty({ children }: { children: ReactNode }) {
  return <p className="px-4 pb-4 pt-1 text-soft">{children}</p>
}

export type Column<T> = { head: string; cell: (row: T) => ReactNode; right?: boolean; grow?: boolean }

/** Rows of 28 px with headings; numbers are right-aligned. */
export function Rows<T>({ rows, columns, by, caption }: { rows: T[]; columns: Column<T>[]; by: (row: T) => string | number; caption: string }) {
  return (
    <div className="overflow-x-auto">
      <table className="w-full border-collapse">
        <caption className="sr-only">{caption}</caption>
        <thead>
          <tr className="text-left text-faint border-b border-line">
            {columns.map((c, i) => {
              const look = cx('h-[28px] px-2 first:pl-4 last:pr-4', c.right && 'text-right', c.grow && 'w-full')
              return c.head ? <th key={i} scope="col" className={look}>{c.head}</th> : <td key={i} className={look} />
            })}
          </tr>
        </thead>
        <tbody>
          {rows.map((r) => (
            <tr key={by(r)} className="border-b border-line last:border-0 hover:bg-leaf-wash/50">
              {columns.map((c, i) => <td key={i} className={cx('h-[28px] px-2 first:pl-4 last:pr-4 align-middle', c.right ? 'text-right font-mono whitespace-nowrap' : '', !c.grow && !c.right && 'whitespace-nowrap')}>{c.cell(r)}</td>)}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}

export const To = ({ to, children }: { to: string; children: ReactNode }) => <Link to={to} className="font-semibold text-ink hover:text-leaf-strong underline-offset-2 hover:underline">{children}</Link>
export const Out = ({ href, children }: { href: string; children?: ReactNode }) => <a href={href} target="_blank" rel="noreferrer" className="font-mono hover:text-leaf-strong underline underline-offset-2 decoration-line-strong">{children ?? href.replace(/^https?:\/\//, '')}</a>
