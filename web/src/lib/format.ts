// How the console says sizes, counts, times: as its language writes them, with decimal units (SI), as the command line has them.
import { t } from '@lingui/core/macro'
import { formats } from '../language'

const locale = formats()
const whole = new Intl.NumberFormat(locale, { maximumFractionDigits: 0 })
const tenths = new Intl.NumberFormat(locale, { minimumFractionDigits: 1, maximumFractionDigits: 1 })
const units = ['kB', 'MB', 'GB', 'TB']

export function size(bytes: number): string {
  if (Math.abs(bytes) < 1000) return `${bytes} B`
  let v = bytes
  for (const unit of units) {
    v /= 1000
    if (Math.abs(v) < 9.95) return `${tenths.format(v)} ${unit}`
    if (Math.abs(v) < 999.5) return `${whole.format(v)} ${unit}`
  }
  return `${whole.format(v / 1000)} PB`
}

export const count = (n: number) => whole.format(n)

/** A share of one, in hundredths; small ones to a tenth. */
export const percent = (share: number) => new Intl.NumberFormat(locale, { style: 'percent', maximumFractionDigits: share < 0.1 ? 1 : 0 }).format(share)

export function millis(ms: number): string {
  if (ms < 1000) return t`${whole.format(ms)} ms`
  if (ms < 90_000) return t`${tenths.format(ms / 1000)} s`
  return t`${whole.format(ms / 60_000)} min`
}

const dayTime = new Intl.DateTimeFormat(locale, { day: 'numeric', month: 'short', year: 'numeric', hour: '2-digit', minute: '2-digit' })
export const day = (iso: string) => dayTime.format(new Date(iso))

const dayOnly = new Intl.DateTimeFormat(locale, { day: 'numeric', month: 'short', year: 'numeric' })
export const onlyDay = (iso: string) => dayOnly.format(new Date(iso))
const dayOfMonth = new Intl.DateTimeFormat(locale, { day: 'numeric', month: 'short', timeZone: 'UTC' })
/** A day of the calendar, as one that something is due by. */
export const date = (iso: string) => dayOfMonth.format(new Date(iso))

const clock = new Intl.DateTimeFormat(locale, { hour: '2-digit', minute: '2-digit', second: '2-digit' })
/** The time of a day, to the second. */
export const time = (iso: string) => clock.format(new Date(iso))

export const took = (from?: string, to?: string) => (from && to ? millis(Date.parse(to) - Date.parse(from)) : '')

const and = new Intl.ListFormat(locale, { type: 'conjunction' })
const comma = new Intl.ListFormat(locale, { type: 'unit' })
/** What stands between so many things, and null where each of them goes. */
export const parted = (things: number) => and.formatToParts(Array.from({ length: things }, () => 'x')).map((p) => (p.type === 'element' ? null : p.value))
/** Several values in a row: "Arial, Georgia". */
export const inRow = (values: string[]) => comma.format(values)

const relative = new Intl.RelativeTimeFormat(locale, { numeric: 'auto', style: 'short' })
const steps: [Intl.RelativeTimeFormatUnit, number, number][] = [
  ['second', 1, 60], ['minute', 60, 3600], ['hour', 3600, 86_400], ['day', 86_400, 7 * 86_400], ['week', 7 * 86_400, 60 * 86_400],
]

/** A moment as seen from now: "4 min ago", "yesterday", "in 3 days"; far ones as a day. */
export function since(iso: string, now: number): string {
  const seconds = (Date.parse(iso) - now) / 1000
  if (Math.abs(seconds) < 5) return t`now`
  for (const [unit, one, below] of steps) {
    if (Math.abs(seconds) < below) return relative.format(Math.round(seconds / one), unit)
  }
  return onlyDay(iso)
}
