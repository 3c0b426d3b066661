import { Link } from 'react-router'
import type { Run } from '../api/client'
import { useLiveRuns } from '../api/events'
import { progressSentence } from './progress'

export function Meter({ run, strip }: { run: Run; strip?: boolean }) {
  const percent = Math.round((run.progress.fraction ?? 0) * 100)
  return (
    <span role="progressbar" aria-label={run.title} aria-valuenow={percent} aria-valuemin={0} aria-valuemax={100}
      className={`inline-block h-1.5 rounded-sm overflow-hidden ${strip ? 'w-32 bg-white/15' : 'w-full bg-line'}`}>
      <span className={`block h-full ${strip ? 'bg-strip-bar' : 'bg-leaf'}`} style={{ width: `${percent}%` }} />
    </span>
  )
}

/** The dark strip along the bottom: always there, and says what works. */
export function WorkStrip() {
  const live = useLiveRuns()
  return (
    <footer className="col-span-2 sticky bottom-0 bg-strip text-on-strip h-[34px] px-4 flex items-center gap-6 overflow-hidden" aria-label="Work" aria-live="off">
      {live.length === 0 && <span className="opacity-70">nothing is running</span>}
      {live.slice(0, 3).map((r) => (
        <Link key={r.id} to={`/runs/${r.id}`} className="flex items-center gap-3 min-w-0 hover:underline">
          <span className="font-bold whitespace-nowrap">{r.title}</span>{r.status !== 'cleanup-failed' && <Meter run={r} strip />}<span className="truncate">{progressSentence(r)}</span>
        </Link>
      ))}
      {live.length > 3 && <Link to="/runs" className="underline">and {live.length - 3} more</Link>}
    </footer>
  )
}
