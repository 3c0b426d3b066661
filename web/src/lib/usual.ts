import type { Schemas } from '../api/client'

type Choice = Pick<Schemas['Release'], 'ref' | 'starter' | 'number' | 'sites' | 'kept'>

/** The release that is most likely wanted: the newest of the starter that most sites were made from. */
export function usual(releases: Choice[]): string {
  const sites = new Map<string, number>()
  for (const r of releases) sites.set(r.starter, (sites.get(r.starter) ?? 0) + r.sites)
  const kept = releases.filter((r) => r.kept)
  kept.sort((a, b) => sites.get(b.starter)! - sites.get(a.starter)! || a.starter.localeCompare(b.starter) || b.number - a.number)
  return kept[0]?.ref ?? ''
}
