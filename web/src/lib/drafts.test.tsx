// @vitest-environment happy-dom
import { act, renderHook } from '@testing-library/react'
import { beforeEach, expect, it } from 'vitest'
import { drafts, held, useAskBeforeClosing, useDraft, useHeld } from './drafts'

beforeEach(() => sessionStorage.clear())

const none = { text: '' }

it('is still there when one comes back, until it is dropped', () => {
  const first = renderHook(() => useDraft('a list', none))
  expect(first.result.current[2].kept).toBe(false)
  act(() => first.result.current[1]((was) => ({ text: `${was.text}typed` })))
  first.unmount()
  const again = renderHook(() => useDraft('a list', none))
  expect(again.result.current[0]).toEqual({ text: 'typed' })
  expect(again.result.current[2].kept).toBe(true)
  act(() => again.result.current[2].drop())
  expect(again.result.current[0]).toBe(none)
  expect(drafts.read('a list')).toBeUndefined()
})

it('is another one for another key', () => {
  drafts.write('one', { text: '1' })
  const { result, rerender } = renderHook(({ key }) => useDraft(key, none), { initialProps: { key: 'one' } })
  expect(result.current[0].text).toBe('1')
  rerender({ key: 'two' })
  expect(result.current[0].text).toBe('')
  act(() => result.current[1]({ text: '2' }))
  expect(drafts.read('one')).toEqual({ text: '1' })
})

it('passes over what cannot be read, and forgets all at once', () => {
  sessionStorage.setItem('draft broken', '{')
  sessionStorage.setItem('other', 'stays')
  expect(drafts.read('broken')).toBeUndefined()
  drafts.write('a', 1)
  drafts.clear()
  expect(Object.keys(sessionStorage)).toEqual(['other'])
})

it('holds what may not be stored until it is dropped or all is forgotten', () => {
  const file = new File(['one'], 'logo.png')
  const first = renderHook(() => useHeld<File | null>('a file', null))
  act(() => first.result.current[1](file))
  first.unmount()
  first.result.current[1](null) // what comes of something that was begun before
  expect(renderHook(() => useHeld<File | null>('a file', file)).result.current[0]).toBeNull()
  first.result.current[1](file)
  expect(renderHook(() => useHeld<File | null>('a file', null)).result.current[0]).toBe(file)
  expect(JSON.stringify({ ...sessionStorage, ...localStorage })).toBe('{}')
  drafts.clear()
  expect(held.has('a file')).toBe(false)
  expect(renderHook(() => useHeld<File | null>('a file', null)).result.current[0]).toBeNull()
})

it('asks before the tab is closed only while something would be lost', () => {
  const asks = () => {
    const closing = new Event('beforeunload', { cancelable: true })
    window.dispatchEvent(closing)
    return closing.defaultPrevented
  }
  const { rerender, unmount } = renderHook(({ when }) => useAskBeforeClosing(when), { initialProps: { when: true } })
  expect(asks()).toBe(true)
  rerender({ when: false })
  expect(asks()).toBe(false)
  rerender({ when: true })
  expect(asks()).toBe(true)
  drafts.clear()
  expect(asks()).toBe(false) // who logs out has left it
  unmount()
  expect(asks()).toBe(false)
})
