import { plural, t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { X } from 'lucide-react'
import { useState } from 'react'
import type { SiteRow } from '../../api/client'
import { useCheck, useHold, useKeepCopy, useRefresh, useRetire } from '../../api/hooks'
import { Button } from '../../parts/Button'
import { Ask } from '../../parts/Dialog'
import { Trouble } from '../../parts/Says'

type ActProps = { sites: SiteRow[]; onLeave: () => void; onBegun: () => void }

/** What can be done with all sites that are chosen, at once: each by a run of its own. */
export function ActOnMany({ sites, onLeave, onBegun }: ActProps) {
  const check = useCheck()
  const copy = useKeepCopy()
  const hold = useHold()
  const refresh = useRefresh()
  const retire = useRetire()
  const [error, setError] = useState<Error | null>(null)
  const behind = sites.filter((s) => s.behind > 0)

  // All are asked for; which could not be begun is said, and the others go on.
  const each = async (of: SiteRow[], act: (s: SiteRow) => Promise<unknown>) => {
    const done = await Promise.allSettled(of.map(act))
    const wrong = done.flatMap((d, i) => (d.status === 'rejected' ? [`${of[i]!.name}: ${(d.reason as Error).message}`] : []))
    if (wrong.length > 0) throw new Error(wrong.join(' '))
  }
  const begin = async (act: (s: SiteRow) => Promise<unknown>) => {
    setError(null)
    try {
      await each(sites, act)
      onBegun()
    } catch (e) {
      setError(e as Error)
    }
  }
  return (
    <div className="fixed left-1/2 -translate-x-1/2 bottom-12 z-20 max-w-[94vw]" role="region" aria-label={t`What is chosen`}>
      <Trouble error={error} />
      <div className="bg-strip text-on-strip rounded-md px-3 py-2 flex flex-wrap items-center gap-2">
        <b className="mr-1 whitespace-nowrap"><Trans>{sites.length} chosen</Trans></b>
        {behind.length > 0 && (
          <Ask small button={t`Newer code…`} title={t`Newer code for ${plural(behind.length, { one: '# site', other: '# sites' })}`} action={t`Refresh them`}
            about={t`Core, extensions and themes come from the newest release of each one’s starter; pages, pictures, accounts and settings stay. What each was is kept as a safety copy, and undo brings it back.`}
            onSubmit={async () => { await each(behind, (s) => refresh.mutateAsync({ name: s.name, from: '' })); onBegun() }}>
            <Named sites={behind} />
          </Ask>
        )}
        <Button small onClick={() => void begin((s) => check.mutateAsync(s.name))}><Trans>Check</Trans></Button>
        <Button small onClick={() => void begin((s) => copy.mutateAsync(s.name))}><Trans>Safety copy</Trans></Button>
        <Button small onClick={() => void begin((s) => hold.mutateAsync({ name: s.name, held: true })).then(onLeave)}><Trans>Hold</Trans></Button>
        <Ask small button={t`Open…`} title={t`Open ${plural(sites.length, { one: '# site', other: '# sites' })} to visitors`} action={t`Open them`} about={t`Whoever goes to their addresses sees them. Search engines and mail stay as they are.`}
          onSubmit={async () => { await each(sites, (s) => hold.mutateAsync({ name: s.name, held: false })); onLeave() }}><Named sites={sites} /></Ask>
        <Ask small danger button={t`Retire…`} title={t`Retire ${plural(sites.length, { one: '# site', other: '# sites' })}`} action={t`Retire them`} about={t`Of each a last safety copy is made. Then folder, database, database user and credentials are removed.`}
          onSubmit={async () => { await each(sites, (s) => retire.mutateAsync(s.name)); onBegun() }}><Named sites={sites} /></Ask>
        <button type="button" aria-label={t`Choose none`} className="p-1 hover:opacity-80" onClick={onLeave}><X size={15} aria-hidden /></button>
      </div>
    </div>
  )
}

const Named = ({ sites }: { sites: SiteRow[] }) => (
  <ul className="max-h-48 overflow-auto list-disc pl-5">{sites.map((s) => <li key={s.name}>{s.title || s.name} <span className="font-mono text-soft">{s.address.replace(/^https?:\/\//, '')}</span></li>)}</ul>
)
