import { size } from '../lib/format'
import { cx } from './cx'

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
