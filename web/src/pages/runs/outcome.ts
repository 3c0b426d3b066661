import { t } from '@lingui/core/macro'
import type { Run } from '../../api/client'

/** What each job is called in filters. */
export const jobs: Partial<Record<Run['job'], string>> = {
  survey: t`surveys`, build: t`builds`, import: t`imports`, verify: t`verifying`, compare: t`comparisons`, provision: t`making sites`, table: t`tables`, check: t`checks`,
  screenshots: t`screenshots`, copy: t`safety copies`, 'drop-copy': t`dropping safety copies`, undo: t`undoing`, move: t`moves`, rotate: t`new credentials`, retire: t`retiring`, retention: t`dropping old archives`,
  'install-code': t`placing code`, 'install-refresh': t`newer code`, 'install-undo': t`code before`, 'install-remove': t`removing code`,
}

type Page = { to: string; label: string }

const pages: Record<string, string> = { site: 'sites', source: 'sources', starter: 'starters', release: 'releases', host: 'hosts', install: 'installs', client: 'clients' }

/** The page that a run concerns: of what it made when it is done, of what it is about when it is not. */
export function concerns(run: Run): Page | undefined {
  const result = (run.result ?? {}) as { release?: string; site?: string }
  const { noun, name } = run.about
  const done = run.status === 'done'
  if (done && result.release && (run.job === 'build' || run.job === 'import')) return { to: `/releases/${result.release}`, label: result.release }
  if (run.job === 'compare') return { to: `/comparisons/${run.id}`, label: t`the differences` }
  if (run.job === t`screenshots` && done) return { to: `/sites/${name}/side-by-side`, label: t`${name} beside its source` }
  if (run.job === 'provision' && !done) return { to: '/sites/new', label: t`Make a site` }
  if (run.job === 'install-remove') return { to: '/hosts', label: t`Hosts` }
  const page = pages[noun]
  return page && name ? { to: `/${page}/${name}`, label: name } : undefined
}
