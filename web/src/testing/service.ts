// A service for tests: answers by method and path, and what was asked. Import it before anything that asks.
import { beforeEach } from 'vitest'

type Answer = unknown | ((body: unknown, url: URL) => unknown)

export const service = {
  answers: {} as Record<string, Answer>,
  asked: [] as { what: string; body: unknown }[],
}

globalThis.fetch = async (input: RequestInfo | URL, init?: RequestInit) => {
  const request = input instanceof Request ? input : new Request(new URL(String(input), 'http://127.0.0.1:8470'), init)
  const url = new URL(request.url)
  const what = `${request.method} ${url.pathname.replace('/api/v1', '')}`
  const text = await request.text()
  const body: unknown = text ? JSON.parse(text) : undefined
  service.asked.push({ what: what + url.search, body })
  const answer = service.answers[what]
  if (answer === undefined) return new Response(JSON.stringify({ detail: `nobody prepared ${what}` }), { status: 500 })
  const said: unknown = typeof answer === 'function' ? (answer as (b: unknown, u: URL) => unknown)(body, url) : answer
  if (said instanceof Response) return said
  return new Response(JSON.stringify(said), { status: 200, headers: { 'Content-Type': 'application/json' } })
}

beforeEach(() => {
  service.answers = {}
  service.asked = []
})

/** An answer that refuses. */
export const refused = (status: number, detail: string, errors?: { location: string; message: string }[]) =>
  new Response(JSON.stringify({ detail, errors }), { status, headers: { 'Content-Type': 'application/problem+json' } })
