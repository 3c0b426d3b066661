// @vitest-environment happy-dom
import { expect, it, vi } from 'vitest'
import { Problem } from './client'
import { connection } from './connection'
import { left, upload } from './upload'

type Options = { onError: (e: Error) => void; onSuccess: () => void; onProgress: (sent: number) => void }

/** What the package does with a file; how it goes is told by the tests. */
const sent = vi.hoisted(() => ({ options: undefined as unknown, starts: 0, aborted: false }))

vi.mock('tus-js-client', () => {
  class DetailedError extends Error {
    originalResponse: { getStatus: () => number; getBody: () => string } | null
    constructor(status: number, text: string) {
      super(`tus: unexpected response while uploading, response code: ${status}`)
      this.originalResponse = status ? { getStatus: () => status, getBody: () => text } : null
    }
  }
  class Upload {
    url = 'http://127.0.0.1/api/v1/uploads/abc123'
    constructor(_file: File, options: unknown) { sent.options = options }
    findPreviousUploads() { return Promise.resolve([]) }
    start() { sent.starts++ }
    abort() { sent.aborted = true; return Promise.resolve() }
  }
  return { DetailedError, Upload }
})

async function begun() {
  Object.assign(sent, { starts: 0, aborted: false })
  const going = new AbortController()
  const done = upload(new File(['x'], 'site.zip'), () => {}, going.signal)
  done.catch(() => {}) // each test looks at it when it is time
  await vi.waitFor(() => expect(sent.starts).toBe(1))
  return { done, going, options: sent.options as Options }
}

const broke = async (status: number, text = '') => {
  const { DetailedError } = await import('tus-js-client')
  return new (DetailedError as unknown as new (status: number, text: string) => Error)(status, text)
}

it('says what the service says, and nothing of how it was sent', async () => {
  const { done, options } = await begun()
  options.onError(await broke(507, 'ERR_NO_ROOM: the disk of the service is full\n'))
  await expect(done).rejects.toThrow(/^The disk of the service is full$/)
  const refused = await begun()
  refused.options.onError(await broke(404, '{"detail":"there is no upload of yours"}'))
  await expect(refused.done).rejects.toThrow(/^There is no upload of yours$/)
  const odd = await begun()
  odd.options.onError(await broke(413, '{ no JSON'))
  await expect(odd.done).rejects.toThrow(/^The service could not take site.zip/)
  const unread = await begun()
  unread.options.onError(new Error('NotReadableError: permission problems'))
  await expect(unread.done).rejects.toThrow(/^site.zip cannot be read any more/)
})

it('goes on when the service is back, and when somebody has logged in again', async () => {
  vi.stubGlobal('fetch', vi.fn(() => Promise.resolve(new Response('', { status: 503 }))))
  const { done, options } = await begun()
  options.onError(await broke(0))
  expect(sent.starts).toBe(1)
  connection.loggedIn() // as when the service answers, it tells those who wait
  expect(sent.starts).toBe(2)
  options.onProgress(1)
  options.onError(await broke(401))
  connection.loggedIn()
  expect(sent.starts).toBe(3)
  options.onSuccess()
  await expect(done).resolves.toBe('abc123')
  connection.loggedIn()
  expect(sent.starts).toBe(3)
})

it('gives up when it does not get on, and ends when it is left', async () => {
  const { done, options } = await begun()
  for (let i = 0; i < 6; i++) {
    options.onProgress(1) // no further than before
    options.onError(await broke(0))
    connection.loggedIn()
  }
  await expect(done).rejects.toThrow(/breaks whenever site.zip is sent/)
  await expect(done).rejects.toBeInstanceOf(Problem)
  const other = await begun()
  other.options.onError(await broke(0))
  other.going.abort()
  await expect(other.done).rejects.toThrow(left().message)
  expect(sent.aborted).toBe(true)
  connection.loggedIn()
  expect(sent.starts).toBe(1)
})
