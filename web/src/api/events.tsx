// Runs as they change: one stream for the whole console, kept in the cache that pages read from.
import { useQueryClient } from '@tanstack/react-query'
import { createContext, useContext, useEffect, useState, type ReactNode } from 'react'
import type { Run } from './client'
import { ended } from './hooks'

const Live = createContext<Run[]>([])

/** The runs that wait or work, oldest first. */
export const useLiveRuns = () => useContext(Live)

export function LiveRuns({ children }: { children: ReactNode }) {
  const queries = useQueryClient()
  const [live, setLive] = useState<Run[]>([])
  useEffect(() => {
    let stream: EventSource | null = null
    const hear = (e: MessageEvent<string>) => {
      const run = JSON.parse(e.data) as Run
      queries.setQueryData(['runs', run.id], run)
      setLive((rest) => {
        const others = rest.filter((r) => r.id !== run.id)
        return ended(run) ? others : [...others, run].sort((a, b) => a.id - b.id)
      })
      if (ended(run)) queries.invalidateQueries()
    }
    // A browser opens six connections to a server at the most, so a page that is not looked at gives its
    // one back, and reads everything again when it is looked at again.
    const listen = () => {
      if (document.visibilityState === 'hidden') {
        stream?.close()
        stream = null
      } else if (!stream) {
        setLive([])
        stream = new EventSource('/api/v1/events')
        stream.onmessage = hear
      }
    }
    const leave = () => { stream?.close(); stream = null }
    const back = (e: PageTransitionEvent) => {
      listen()
      if (e.persisted) queries.invalidateQueries()
    }
    listen()
    document.addEventListener('visibilitychange', listen)
    window.addEventListener('pagehide', leave)
    window.addEventListener('pageshow', back)
    return () => {
      leave()
      document.removeEventListener('visibilitychange', listen)
      window.removeEventListener('pagehide', leave)
      window.removeEventListener('pageshow', back)
    }
  }, [queries])
  return <Live value={live}>{children}</Live>
}
