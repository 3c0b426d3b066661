// @vitest-environment happy-dom
import { afterEach, expect, it, vi } from 'vitest'
import { body, Problem } from './client'
import { connection } from './connection'

afterEach(() => vi.useRealTimers())

it('asks a service that is away again until it answers, and tells those who wait', async () => {
  vi.useFakeTimers()
  const fetching = vi.fn<() => Promise<Response>>()
    .mockRejectedValueOnce(new Error('refused')).mockResolvedValueOnce(new Response('', { status: 503 })).mockResolvedValueOnce(new Response('ok'))
  vi.stubGlobal('fetch', fetching)
  const told = vi.fn()
  const stop = connection.onBack(told)
  const back = connection.back()
  connection.lost() // twice is once
  await vi.advanceTimersByTimeAsync(3100)
  expect(told).not.toHaveBeenCalled()
  await vi.advanceTimersByTimeAsync(1600)
  await back
  expect(told).toHaveBeenCalledOnce()
  await vi.advanceTimersByTimeAsync(10_000)
  expect(fetching).toHaveBeenCalledTimes(3)
  stop()
})

const problem = async (call: Promise<never>) => {
  try {
    await body(call)
  } catch (e) {
    return e as Problem
  }
  throw new Error('there is a problem')
}

const answered = (status: number, error: object) => Promise.resolve({ error, response: new Response('', { status }) }) as unknown as Promise<never>

it('makes sentences of problems, and says which fields are wrong', async () => {
  vi.stubGlobal('fetch', vi.fn(() => Promise.resolve(new Response('ok'))))
  expect((await problem(Promise.reject(new TypeError('Failed to fetch')))).away).toBe(true)
  expect((await problem(answered(401, { detail: 'log in first' }))).loggedOut).toBe(true)
  expect((await problem(answered(409, { detail: 'there is a client "x" already' }))).message).toBe('There is a client "x" already')
  const wrong = await problem(answered(422, { detail: 'validation failed', errors: [{ location: 'body.name', message: 'expected string to match pattern' }, { message: 'and something else' }] }))
  expect(wrong.fields).toEqual({ name: 'Expected string to match pattern' })
  expect(wrong.message).toBe('Some of what was entered cannot be used; it is marked. and something else')
  expect((await problem(answered(500, {}))).message).toBe('The service could not do this.')
})

it('gives what was answered', async () => {
  expect(await body(Promise.resolve({ data: { name: 'x' }, response: new Response('{}') }))).toEqual({ name: 'x' })
})
