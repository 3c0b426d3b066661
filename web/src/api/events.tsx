// Runs as they change: one stream for the whole console, kept in the cache that pages read from.
import { useQueryClient } from '@tanstack/react-query'
import { createContext, useContext, useEffect, useState, type ReactNode } from 'react'
import { inOurWords } from '../lib/said'
import { addressOf, type Run } from './client'
import { connection } from './connection'
import { ended } from './hooks'

type Runs = { live: Run[]; over: Run[] }

const Live = createContext<Runs>({ live: [], over: [] })

/** The runs that wait or work, oldest first. */
export const useLiveRuns = () => useContext(Live).live

/** The runs that have ended while the console was open, oldest first. */
export const useEndedRuns = () => useContext(Live).over

export function LiveRuns({ children }: { children: ReactNode }) {
  const queries = useQueryClient()
  const [runs, setRuns] = useState<Runs>({ live: [], over: [] })
  useEffect(() => {
    let stream: EventSource | null = null
    const hear = (e: MessageEvent<string>) => {
      const run = inOurWords(JSON.parse(e.data) as Run)
      queries.setQueryData(['runs', run.id], run)
      setRuns(({ live, over }) => {
        const seen = live.some((r) => r.id === run.id)
        const others = live.filter((r) => r.id !== run.id)
        if (!ended(run)) return { live: [...others, run].sort((a, b) => a.id - b.id), over }
        return { live: others, over: seen ? [...over.filter((r) => r.id !== run.id), run].slice(-20) : over }
      })
      if (ended(run)) void queries.invalidateQueries()
    }
    // A browser opens six connections to a server at the most, so a page that is not looked at gives its
    // one back, and reads everything again when it is looked at again.
    const listen = () => {
      if (document.visibilityState === 'hidden') {
        stream?.close()
        stream = null
      } else if (!stream) {
        setRuns((r) => ({ ...r, live: [] }))
        stream = new EventSource(addressOf('/events', {}))
        stream.onmessage = hear
        // Closed for good, it was refused, as after a session has ended: who is asking says so. Else nobody answers.
        stream.onerror = () => {
          if (stream?.readyState !== EventSource.CLOSED) return connection.lost()
          stream = null
          void queries.invalidateQueries({ queryKey: ['me'] })
        }
      }
    }
    const leave = () => { stream?.close(); stream = null }
    const again = () => { leave(); listen() }
    const back = (e: PageTransitionEvent) => {
      listen()
      if (e.persisted) void queries.invalidateQueries()
    }
    listen()
    const forget = connection.onBack(again)
    document.addEventListener('visibilitychange', listen)
    window.addEventListener('pagehide', leave)
    window.addEventListener('pageshow', back)
    return () => {
      leave()
      forget()
      document.removeEventListener('visibilitychange', listen)
      window.removeEventListener('pagehide', leave)
      window.removeEventListener('pageshow', back)
    }
  }, [queries])
  return <Live value={runs}>{children}</Live>
}
