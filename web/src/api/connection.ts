// Whether the service answers, and whether somebody is logged in: what every page depends on, kept outside of all of them.
import { useSyncExternalStore } from 'react'

type State = { away: boolean; expired: boolean }

let state: State = { away: false, expired: false }
const listeners = new Set<() => void>()
const backs = new Set<() => void>()
let timer: ReturnType<typeof setInterval> | undefined

function set(part: Partial<State>) {
  state = { ...state, ...part }
  for (const l of listeners) l()
}

async function ask() {
  try {
    if (!(await fetch('/livez', { cache: 'no-store' })).ok) return
  } catch {
    return
  }
  clearInterval(timer)
  timer = undefined
  set({ away: false })
  for (const b of backs) b()
}

export const connection = {
  /** Nobody answered: it is asked again until somebody does. */
  lost() {
    if (!state.away) set({ away: true })
    timer ??= setInterval(() => void ask(), 1500)
  },
  /** Waits until the service answers again. */
  back(): Promise<void> {
    this.lost()
    return new Promise((done) => { const stop = this.onBack(() => { stop(); done() }) })
  },
  /** A session has ended: the page stays as it is, under a log-in. */
  expired() { if (!state.expired) set({ expired: true }) },
  loggedIn() {
    set({ expired: false })
    for (const b of backs) b()
  },
  /** Calls back when the service answers again, or somebody has logged in again. */
  onBack(back: () => void) {
    backs.add(back)
    return () => { backs.delete(back) }
  },
}

const subscribe = (l: () => void) => {
  listeners.add(l)
  return () => { listeners.delete(l) }
}

export const useConnection = () => useSyncExternalStore(subscribe, () => state)
