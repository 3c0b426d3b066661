import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { Link } from 'react-router'
import type { Run } from '../api/client'
import { useLiveRuns } from '../api/events'
import { useConnection } from '../api/connection'
import { progressSentence } from '../lib/progress'

export function Meter({ run, strip }: { run: Run; strip?: boolean }) {
  const percent = Math.round((run.progress.fraction ?? 0) * 100)
  return (
    <span role="progressbar" aria-label={run.title} aria-valuenow={percent} aria-valuemin={0} aria-valuemax={100}
      className={`inline-block h-1.5 rounded-sm overflow-hidden shrink-0 ${strip ? 'w-32 bg-white/15' : 'w-full bg-line'}`}>
      <span className={`block h-full ${strip ? 'bg-strip-bar' : 'bg-leaf'}`} style={{ width: `${percent}%` }} />
    </span>
  )
}

/** The dark strip along the bottom: always there, and says what works. */
export function WorkStrip({ onPalette }: { onPalette: () => void }) {
  const live = useLiveRuns()
  const { away } = useConnection()
  return (
    <footer aria-label={t`Work`} aria-live="off"
      className="col-span-2 sticky bottom-0 z-20 bg-strip text-on-strip h-[34px] px-4 flex items-center gap-6 overflow-hidden print:hidden">
      {away && <span><Trans>the service does not answer</Trans></span>}
      {!away && live.length === 0 && <span className="opacity-80"><Trans>nothing is running</Trans></span>}
      {!away && live.slice(0, 3).map((r) => (
        <Link key={r.id} to={`/runs/${r.id}`} className="flex items-center gap-3 min-w-0 hover:underline">
          <span className="font-bold whitespace-nowrap">{r.title}</span>
          {r.status !== 'cleanup-failed' && <Meter run={r} strip />}
          <span className="truncate">{progressSentence(r)}</span>
        </Link>
      ))}
      {live.length > 3 && <Link to="/runs?status=working" className="underline"><Trans>and {live.length - 3} more</Trans></Link>}
      <button type="button" onClick={onPalette} className="ml-auto font-mono opacity-80 hover:opacity-100 whitespace-nowrap"><Trans>Ctrl K</Trans></button>
    </footer>
  )
}
