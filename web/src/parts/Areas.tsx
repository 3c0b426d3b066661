import { called } from '../lib/called'
import { cx } from './cx'
import { size } from '../lib/format'

type Area = { area: string; bytes: number }

/** One bar of all areas, with their names and sizes below: the same colours everywhere. */
export function Areas({ areas }: { areas: Area[] }) {
  const shown = areas.filter((a) => a.bytes > 0).sort((a, b) => b.bytes - a.bytes)
  const total = shown.reduce((n, a) => n + a.bytes, 0)
  return (
    <div className="min-w-0">
      <div className="flex h-3.5 rounded-sm overflow-hidden gap-px" aria-hidden>
        {shown.map((a) => <span key={a.area} className={cx('area min-w-[3px]', `area-${a.area}`)} style={{ width: `${(a.bytes / total) * 100}%` }} />)}
      </div>
      <ul className="flex flex-wrap gap-x-4 gap-y-0.5 mt-1.5">
        {shown.map((a) => (
          <li key={a.area} className="flex items-center gap-1.5"><span className={cx('area w-2.5 h-2.5 rounded-sm', `area-${a.area}`)} aria-hidden /><span className="text-soft first-letter:uppercase">{called(a.area)}</span><span className="font-mono">{size(a.bytes)}</span></li>
        ))}
      </ul>
    </div>
  )
}
