import { useHosts, useSitePage } from '../../api/hooks'

/** The host that is most likely wanted: that of the newest site, as long as it is there. */
export function useUsualHost(): string {
  const hosts = useHosts().data ?? []
  const newest = useSitePage({ sort: 'newest', limit: 1 }).data?.sites[0]?.host
  return hosts.some((h) => h.name === newest) ? newest! : (hosts[0]?.name ?? '')
}
