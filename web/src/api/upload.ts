// Files are sent by tus (resumable uploads, version 1.0): a break is taken up where it ended, also after the page was closed.
import { t } from '@lingui/core/macro'
import * as tus from 'tus-js-client'
import { unreadable } from '../lib/files'
import { said } from '../lib/said'
import { addressBelow, Problem, sentence } from './client'
import { connection } from './connection'

/** The sentence in an answer that refuses: of the service, or of the package that takes files for it. */
function toldIn(text: string): string | undefined {
  try {
    return (JSON.parse(text) as { detail?: string }).detail
  } catch {
    return /^ERR_[A-Z_]+: (.+)$/.exec(text)?.[1]
  }
}

/** What the service, or the browser, said of an upload that broke off. */
function problemOf(error: Error, file: File): Problem {
  if (!(error instanceof tus.DetailedError)) return new Problem(-1, unreadable(file))
  const answer = error.originalResponse
  if (!answer || [0, 502, 503, 504].includes(answer.getStatus())) return new Problem(0, t`The service does not answer.`)
  const told = toldIn(answer.getBody().trim())
  return new Problem(answer.getStatus(), told ? sentence(said(told)) : t`The service could not take ${file.name}.`)
}

/** How often an upload is begun again without getting on. */
const turns = 5

/**
 * Sends a file and returns what its upload is called. While the service is away or nobody is logged in, it waits; when it is left, sending ends.
 * What has arrived stays, and the same file goes on from there.
 */
export function upload(file: File, progress: (sent: number) => void, signal: AbortSignal): Promise<string> {
  return new Promise((done, failed) => {
    let waits = () => {}
    let idle = 0
    let most = 0
    const sending = new tus.Upload(file, {
      endpoint: addressBelow('/uploads/'), chunkSize: 64 << 20, retryDelays: [0, 500, 2000], metadata: { filename: file.name }, removeFingerprintOnSuccess: true,
      onShouldRetry: (e) => { const status = e.originalResponse?.getStatus() ?? 0; return status === 409 || status === 423 },
      onProgress: (bytes) => {
        if (bytes > most) [idle, most] = [0, bytes]
        progress(bytes)
      },
      onSuccess: () => done(sending.url!.split('/').pop()!),
      onError: (e) => {
        const problem = problemOf(e, file)
        if (!problem.away && !problem.loggedOut) return failed(problem)
        if (++idle > turns) return failed(new Problem(-1, t`The connection breaks whenever ${file.name} is sent. What has arrived is kept; try again later.`))
        waits = connection.onBack(() => { waits(); sending.start() })
        if (problem.away) connection.lost()
        else connection.expired()
      },
    })
    const stop = () => {
      waits()
      void sending.abort()
      failed(left())
    }
    if (signal.aborted) return stop()
    signal.addEventListener('abort', stop)
    void sending.findPreviousUploads().then((before) => {
      if (before[0]) sending.resumeFromPreviousUpload(before[0])
      if (!signal.aborted) sending.start()
    })
  })
}

/** What an upload that was left fails with. */
export const left = () => new DOMException(t`The upload was left.`, 'AbortError')
