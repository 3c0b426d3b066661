import { ChevronDown } from 'lucide-react'
import { DropdownMenu } from 'radix-ui'
import type { ReactNode } from 'react'
import { Button } from './Button'
import { cx } from './cx'

/** Acts that are not the first one, behind one button. */
export function Menu({ label, children, small }: { label: string; children: ReactNode; small?: boolean }) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger asChild><Button small={small}>{label}<ChevronDown size={13} aria-hidden /></Button></DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" className="z-30 bg-sheet border border-line-strong rounded-md py-1 min-w-44">{children}</DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  )
}

export function MenuItem({ children, onSelect, danger, disabled }: { children: ReactNode; onSelect: () => void; danger?: boolean; disabled?: boolean }) {
  return (
    <DropdownMenu.Item onSelect={onSelect} disabled={disabled}
      className={cx('px-3 h-7 flex items-center gap-2 data-highlighted:bg-leaf-wash data-disabled:opacity-50 outline-none cursor-pointer', danger && 'text-clay')}>
      {children}
    </DropdownMenu.Item>
  )
}
