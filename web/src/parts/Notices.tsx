import { t } from '@lingui/core/macro'
import { X } from 'lucide-react'
import { useEffect, useRef, useState } from 'react'
import { Link, useLocation } from 'react-router'
import type { Run } from '../api/client'
import { useEndedRuns, useLiveRuns } from '../api/events'
import { called } from '../lib/called'
import { RunStatus } from './Status'

const longMillis = 8_000
const shownMillis = 12_000

const long = (r: Run) => r.started_at !== undefined && r.ended_at !== undefined && Date.parse(r.ended_at) - Date.parse(r.started_at) > longMillis

/** Says, wherever one is, that long or failed work is over: in a corner, and by the system where that is allowed and the page is not seen. */
export function Notices() {
  const over = useEndedRuns()
  const { pathname } = useLocation()
  const [gone, setGone] = useState<number[]>([])
  const told = useRef(new Set<number>())
  const shown = over.filter((r) => !gone.includes(r.id) && pathname !== `/runs/${r.id}` && (r.status === 'failed' || long(r))).slice(-3)
  useEffect(() => {
    for (const r of over) {
      if (told.current.has(r.id)) continue
      told.current.add(r.id)
      if (long(r) && document.hidden && 'Notification' in window && Notification.permission === 'granted') {
        new Notification(`${r.title}: ${called(r.status)}`, { tag: `run ${r.id}` })
      }
      if (r.status !== 'failed') setTimeout(() => setGone((g) => [...g, r.id]), shownMillis)
    }
  }, [over])
  return (
    <div aria-live="polite" className="fixed right-4 bottom-12 z-30 grid gap-2 w-80 max-w-[90vw] print:hidden">
      {shown.map((r) => (
        <div key={r.id} className="bg-sheet border border-line-strong rounded-md px-3 py-2 flex items-center gap-2">
          <RunStatus status={r.status} />
          <Link to={`/runs/${r.id}`} className="font-semibold min-w-0 truncate hover:underline">{r.title}</Link>
          <button type="button" aria-label={t`Dismiss`} className="ml-auto p-1 text-soft hover:text-ink" onClick={() => setGone((g) => [...g, r.id])}>
            <X size={14} aria-hidden />
          </button>
        </div>
      ))}
    </div>
  )
}

/** The title and the icon of the window tell how far the oldest run is. */
export function useProgressInTitle() {
  const live = useLiveRuns()
  const first = live.find((r) => r.status === 'working')
  const percent = first ? Math.floor((first.progress.fraction ?? 0) * 100) : undefined
  useEffect(() => {
    const link = document.querySelector<HTMLLinkElement>('link[rel=icon]')
    if (percent === undefined || !link) return
    const title = document.title.replace(/^\d+ % · /, '')
    const icon = link.href
    document.title = `${percent} % · ${title}`
    link.href = 'data:image/svg+xml,' + encodeURIComponent(ring(percent))
    return () => {
      document.title = document.title.replace(/^\d+ % · /, '')
      link.href = icon
    }
  }, [percent])
}

function ring(percent: number): string {
  const around = 2 * Math.PI * 9
  return `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 24 24" fill="none" stroke-width="5">
    <circle cx="12" cy="12" r="9" stroke="#c5d0cb"/>
    <circle cx="12" cy="12" r="9" stroke="#1c6b4f" stroke-dasharray="${(around * percent) / 100} ${around}" transform="rotate(-90 12 12)"/></svg>`
}
