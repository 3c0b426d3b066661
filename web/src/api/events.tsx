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
    const stream = new EventSource('/api/v1/events')
    stream.onmessage = (e) => {
      const run = JSON.parse(e.data) as Run
      queries.setQueryData(['runs', run.id], run)
      setLive((rest) => {
        const others = rest.filter((r) => r.id !== run.id)
        return ended(run) ? others : [...others, run].sort((a, b) => a.id - b.id)
      })
      if (ended(run)) queries.invalidateQueries()
    }
    return () => stream.close()
  }, [queries])
  return <Live value={live}>{children}</Live>
}
