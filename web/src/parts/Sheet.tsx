import type { ReactNode } from 'react'
import { cx } from './cx'

type SheetProps = { title?: ReactNode; aside?: ReactNode; children?: ReactNode; className?: string; id?: string }

/** A white sheet on the bench. */
export function Sheet({ title, aside, children, className, id }: SheetProps) {
  return (
    <section id={id} className={cx('bg-sheet border border-line rounded-md min-w-0', className)}>
      {title && (
        <div className="flex flex-wrap items-baseline justify-between gap-x-4 gap-y-1 px-4 pt-3 pb-2">
          <h2 className="font-bold text-[1.05rem]">{title}</h2>
          {aside && <div className="text-soft">{aside}</div>}
        </div>
      )}
      {children}
    </section>
  )
}
