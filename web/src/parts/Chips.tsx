import { cx } from './cx'

export type Chip = { value: string; label: string; count?: number }

/** Filters of a list, of which one holds; those that would leave nothing over are not shown unless they hold. */
export function Chips({ chips, value, onPick, label }: { chips: Chip[]; value: string; onPick: (value: string) => void; label: string }) {
  return (
    <div role="group" aria-label={label} className="flex flex-wrap gap-1.5">
      {chips.filter((c) => c.count !== 0 || c.value === value || c.value === '').map((c) => (
        <button key={c.value} type="button" aria-pressed={c.value === value} onClick={() => onPick(c.value === value ? '' : c.value)}
          className={cx('h-[26px] px-2.5 rounded border whitespace-nowrap',
            c.value === value ? 'border-leaf bg-leaf-wash font-semibold text-leaf-strong' : 'border-line-strong/60 bg-sheet hover:border-ink')}>
          {c.label}{c.count !== undefined && <span className="font-mono ml-1.5">{c.count}</span>}
        </button>
      ))}
    </div>
  )
}
