// What somebody has typed and not sent yet. It outlives the part of the page that it was typed in; secrets are never kept.
import { useCallback, useLayoutEffect, useState } from 'react'

const prefix = 'draft '

function read<T>(key: string): T | undefined {
  const text = sessionStorage.getItem(prefix + key)
  if (text === null) return undefined
  try {
    return JSON.parse(text) as T
  } catch {
    return undefined
  }
}

export const drafts = {
  read,
  write: (key: string, value: unknown) => sessionStorage.setItem(prefix + key, JSON.stringify(value)),
  drop: (key: string) => sessionStorage.removeItem(prefix + key),
  /** Forgets everything, as when somebody logs out. */
  clear() {
    memory.clear()
    forgotten = true
    for (const key of Object.keys(sessionStorage)) if (key.startsWith(prefix)) sessionStorage.removeItem(key)
  },
}

const memory = new Map<string, unknown>()
let forgotten = false // there is nothing left to ask for

/** What may not be stored, like files and secrets: it is there until the tab is closed or somebody logs out. */
export const held = {
  has: (key: string) => memory.has(key),
  read: <T>(key: string) => memory.get(key) as T | undefined,
  write: (key: string, value: unknown) => memory.set(key, value),
  drop: (key: string) => memory.delete(key),
}

/** A state that is kept in memory while one is on other pages. */
export function useHeld<T>(key: string, initial: T): [T, (next: T | ((was: T) => T)) => void] {
  const [value, setValue] = useState(() => (memory.has(key) ? memory.get(key) as T : initial))
  const set = useCallback((next: T | ((was: T) => T)) => { // in memory first: the page may have been left by now
    const now = typeof next === 'function' ? (next as (was: T) => T)(memory.has(key) ? memory.get(key) as T : initial) : next
    memory.set(key, now)
    setValue(now)
  }, [key])
  return [value, set]
}

/** Has the browser ask before the tab is closed or loaded anew while something would be lost by it, and not a moment longer. */
export function useAskBeforeClosing(when: boolean) {
  useLayoutEffect(() => {
    if (!when) return
    forgotten = false
    const ask = (e: BeforeUnloadEvent) => { if (!forgotten) e.preventDefault() }
    window.addEventListener('beforeunload', ask)
    return () => window.removeEventListener('beforeunload', ask)
  }, [when])
}

/** A state that is still there when one comes back to the page, until it is dropped. */
export function useDraft<T>(key: string, initial: T): [T, (next: T | ((was: T) => T)) => void, { kept: boolean; drop: () => void }] {
  const [state, setState] = useState(() => ({ key, value: read<T>(key) ?? initial, kept: read<T>(key) !== undefined }))
  const current = state.key === key ? state : { key, value: read<T>(key) ?? initial, kept: read<T>(key) !== undefined }
  if (current !== state) setState(current)
  const set = useCallback((next: T | ((was: T) => T)) => setState((s) => {
    const value = typeof next === 'function' ? (next as (was: T) => T)(s.value) : next
    drafts.write(s.key, value)
    return { ...s, value, kept: true }
  }), [])
  const drop = useCallback(() => {
    drafts.drop(key)
    setState({ key, value: initial, kept: false })
  }, [key, initial])
  return [current.value, set, { kept: current.kept, drop }]
}
