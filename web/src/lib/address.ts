// What a page shows is said in its address: filters, order, place. It can be sent to somebody, and Back goes back to it.
import { useCallback, useDeferredValue, useEffect, useState } from 'react'
import { useSearchParams } from 'react-router'

/** One value in the address; what is empty, or the usual one, is left out. */
export function useAddressValue(name: string, usual = ''): [string, (value: string) => void] {
  const [params, setParams] = useSearchParams()
  const set = useCallback((value: string) => setParams((was) => {
    const next = new URLSearchParams(was)
    if (value === usual) next.delete(name)
    else next.set(name, value)
    return next
  }, { replace: true }), [name, usual, setParams])
  return [params.get(name) ?? usual, set]
}

/** A text that is searched for: it goes into the address when typing rests. */
export function useSearchText(name = 'find'): { typed: string; type: (text: string) => void; find: string } {
  const [find, setFind] = useAddressValue(name)
  const [typed, type] = useState(find)
  useEffect(() => type(find), [find])
  useEffect(() => {
    if (typed === find) return
    const rest = setTimeout(() => setFind(typed), 200)
    return () => clearTimeout(rest)
  }, [typed, find, setFind])
  return { typed, type, find: useDeferredValue(find) }
}
