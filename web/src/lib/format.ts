// How the console says sizes, counts, times. Decimal units (SI), as the command line says them.
const units = ['kB', 'MB', 'GB', 'TB']

export function size(bytes: number): string {
  if (Math.abs(bytes) < 1000) return `${bytes} B`
  let v = bytes
  for (const unit of units) {
    v /= 1000
    if (Math.abs(v) < 9.95) return `${v.toFixed(1)} ${unit}`
    if (Math.abs(v) < 999.5) return `${v.toFixed(0)} ${unit}`
  }
  return `${(v / 1000).toFixed(0)} PB`
}

export const count = (n: number) => n.toLocaleString('en-GB')

export function millis(ms: number): string {
  if (ms < 1000) return `${Math.round(ms)} ms`
  if (ms < 90_000) return `${(ms / 1000).toFixed(1)} s`
  return `${Math.round(ms / 60_000)} min`
}

const dayTime = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', year: 'numeric', hour: '2-digit', minute: '2-digit' })
export const day = (iso: string) => dayTime.format(new Date(iso))

const dayOnly = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', year: 'numeric' })
export const onlyDay = (iso: string) => dayOnly.format(new Date(iso))
const dayOfMonth = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', timeZone: 'UTC' })
/** A day of the calendar, as one that something is due by. */
export const date = (iso: string) => dayOfMonth.format(new Date(iso))

export const took = (from?: string, to?: string) => (from && to ? millis(Date.parse(to) - Date.parse(from)) : '')

export const plural = (n: number, one: string, many = `${one}s`) => `${count(n)} ${n === 1 ? one : many}`

const relative = new Intl.RelativeTimeFormat('en-GB', { numeric: 'auto', style: 'short' })
const steps: [Intl.RelativeTimeFormatUnit, number, number][] = [
  ['second', 1, 60], ['minute', 60, 3600], ['hour', 3600, 86_400], ['day', 86_400, 7 * 86_400], ['week', 7 * 86_400, 60 * 86_400],
]

/** A moment as seen from now: "4 min ago", "yesterday", "in 3 days"; far ones as a day. */
export function since(iso: string, now: number): string {
  const seconds = (Date.parse(iso) - now) / 1000
  if (Math.abs(seconds) < 5) return 'now'
  for (const [unit, one, below] of steps) {
    if (Math.abs(seconds) < below) return relative.format(Math.round(seconds / one), unit)
  }
  return onlyDay(iso)
}
