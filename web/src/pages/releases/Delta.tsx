import { size } from '../../lib/format'

export const signed = (n: number) => `${n < 0 ? '−' : '+'}${size(Math.abs(n))}`

/** A difference as a bar from the middle: to the right for more, to the left for less. */
export function Delta({ of, most, area }: { of: number; most: number; area?: string }) {
  const share = Math.max(of === 0 ? 0 : 1, (Math.abs(of) / Math.max(1, most)) * 50)
  return (
    <span className="relative block h-2 rounded-sm bg-line overflow-hidden w-full min-w-20" aria-hidden>
      <span className={`absolute inset-y-0 ${area ? `area area-${area}` : 'bg-leaf'}`} style={of < 0 ? { right: '50%', width: `${share}%` } : { left: '50%', width: `${share}%` }} />
    </span>
  )
}
