// The generated client: every call is typed by the service's own description.
import { t } from '@lingui/core/macro'
import createClient, { createFinalURL, createQuerySerializer, defaultPathSerializer } from 'openapi-fetch'
import type { components, paths } from './schema'
import { inOurWords, said as inWords } from '../lib/said'
import { connection } from './connection'

export type Schemas = components['schemas']
export type Run = Schemas['Run']
export type Release = Schemas['Release']
export type Site = Schemas['Site']
export type SiteRow = Schemas['SiteRow']
export type Source = Schemas['Source']
export type Starter = Schemas['Starter']
export type Client = Schemas['Client']
export type ClientRow = Schemas['ClientRow']
export type Plan = Schemas['Plan']
export type CheckReport = Schemas['Report']

// Lists in addresses have commas between, as the service's description says (explode: false).
export const http = createClient<paths>({ baseUrl: '/api/v1', querySerializer: { array: { style: 'form', explode: false } } })

type Gets = { [P in keyof paths]: paths[P] extends { get: { parameters: infer Params } } ? Params : never }

/** The address of what a browser reads by itself: a picture, a download, events. */
export function addressOf<P extends keyof paths>(path: P, params: Pick<Gets[P], Extract<keyof Gets[P], 'path' | 'query'>>): string {
  return createFinalURL(path, { baseUrl: '/api/v1', params, querySerializer: createQuerySerializer(), pathSerializer: defaultPathSerializer })
}

/** The address of something that the service itself has named, below its interface. */
export const addressBelow = (path: string) => `/api/v1${path}`

/** A problem document of the service (RFC 9457), as an error with its sentence. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    sentence: string,
    /** What is wrong with single fields of what was sent, by their names. */
    readonly fields: Record<string, string> = {},
  ) {
    super(sentence)
  }

  /** Nobody answered. */
  get away() { return this.status === 0 }

  /** Nobody is logged in any more. */
  get loggedOut() { return this.status === 401 }
}

type Answer<T> = { data?: T; error?: Schemas['ErrorModel']; response: Response }

export const sentence = (text: string) => text.charAt(0).toUpperCase() + text.slice(1)

function problemOf(status: number, e: Schemas['ErrorModel'] | undefined): Problem {
  const fields: Record<string, string> = {}
  const others: string[] = []
  for (const x of e?.errors ?? []) {
    const name = /^body\.(.+)$/.exec(x.location ?? '')?.[1]
    if (name) fields[name] = sentence(x.message ? inWords(x.message) : t`is wrong`)
    else if (x.message) others.push(inWords(x.message))
  }
  const wrong = Object.keys(fields).length > 0
  const said = wrong ? t`Some of what was entered cannot be used; it is marked.` : (e?.detail ? inWords(e.detail) : t`The service could not do this.`)
  return new Problem(status, [sentence(said), ...others].join(' '), fields)
}

/** Returns the body of an answer, or throws its problem. */
export async function body<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>
  try {
    answer = await call
  } catch {
    connection.lost()
    throw new Problem(0, t`The service does not answer.`)
  }
  if (answer.error !== undefined || !answer.response.ok) throw problemOf(answer.response.status, answer.error)
  return inOurWords(answer.data as T)
}
