import type { Run } from '../../api/client'

/** What each job is called in filters. */
export const jobs: Partial<Record<Run['job'], string>> = {
  survey: 'surveys', build: 'builds', import: 'imports', verify: 'verifying', compare: 'comparisons', provision: 'making sites', table: 'tables', check: 'checks',
  screenshots: 'screenshots', copy: 'safety copies', undo: 'undoing', move: 'moves', rotate: 'new credentials', retire: 'retiring', retention: 'dropping old archives',
  'install-code': 'placing code', 'install-refresh': 'newer code', 'install-undo': 'code before', 'install-remove': 'removing code',
}

type Page = { to: string; label: string }

const pages: Record<string, string> = { site: 'sites', source: 'sources', starter: 'starters', release: 'releases', host: 'hosts', install: 'installs', client: 'clients' }

/** The page that a run concerns: of what it made when it is done, of what it is about when it is not. */
export function concerns(run: Run): Page | undefined {
  const result = (run.result ?? {}) as { release?: string; site?: string }
  const { noun, name } = run.about
  const done = run.status === 'done'
  if (done && result.release && (run.job === 'build' || run.job === 'import')) return { to: `/releases/${result.release}`, label: result.release }
  if (run.job === 'compare') return { to: `/comparisons/${run.id}`, label: 'the differences' }
  if (run.job === 'screenshots' && done) return { to: `/sites/${name}/side-by-side`, label: `${name} beside its source` }
  if (run.job === 'provision' && !done) return { to: '/sites/new', label: 'Make a site' }
  if (run.job === 'install-remove') return { to: '/hosts', label: 'Hosts' }
  const page = pages[noun]
  return page && name ? { to: `/${page}/${name}`, label: name } : undefined
}
