// The generated client: every call is typed by the service's own description.
import createClient from 'openapi-fetch'
import type { components, paths } from './schema'

export type Schemas = components['schemas']
export type Run = Schemas['Run']
export type Release = Schemas['Release']
export type Site = Schemas['Site']
export type Source = Schemas['Source']
export type Starter = Schemas['Starter']
export type Client = Schemas['Client']
export type Plan = Schemas['Plan']
export type CheckReport = Schemas['Report']

export const http = createClient<paths>({ baseUrl: '/api/v1' })

/** A problem document of the service (RFC 9457), as an error with its sentence. */
export class Problem extends Error {
  constructor(readonly status: number, sentence: string) {
    super(sentence)
  }
}

type Answer<T> = { data?: T; error?: Schemas['ErrorModel']; response: Response }

/** Returns the body of an answer, or throws its problem. */
export async function body<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>
  try {
    answer = await call
  } catch {
    throw new Problem(0, 'The service does not answer. Is it running?')
  }
  if (answer.error !== undefined || !answer.response.ok) {
    const e = answer.error
    const more = e?.errors?.map((x) => `${(x.location ?? '').replace('body.', '')}: ${x.message ?? ''}`).join('; ')
    throw new Problem(answer.response.status, [e?.detail ?? answer.response.statusText, more].filter(Boolean).join(': '))
  }
  return answer.data as T
}
