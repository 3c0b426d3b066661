import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { Check } from 'lucide-react'
import type { ReactNode } from 'react'
import type { Schemas } from '../../api/client'
import { useReleases, useSample, useSources, useStarters, useTakeSample } from '../../api/hooks'
import { Button, ButtonLink } from '../../parts/Button'
import { cx } from '../../parts/cx'
import { useFollow } from '../../lib/useFollow'
import { Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { AddClient } from '../clients/AddClient'
import { AddHost } from '../hosts/AddHost'
import { AddSource } from '../sources/AddSource'
import { CreateStarter } from '../sources/CreateStarter'
import { StartSurvey } from '../sources/StartSurvey'

type Step = { title: string; about: string; done: boolean; act: ReactNode }

/** The way from nothing to the first site: each step with what it needs, the next one with its button. */
export function FirstSteps({ today }: { today: Schemas['Today'] }) {
  const sources = useSources().data ?? []
  const starters = useStarters().data ?? []
  const releases = useReleases().data ?? []
  const source = sources[0]
  const surveyed = sources.find((s) => s.survey) ?? source
  const starter = starters[0]
  const release = releases.find((r) => r.kept)
  const steps: Step[] = [
    { title: t`Add a host`, about: t`Where the configured site lies, and where new ones are to go: its folder, the addresses of sites, its database server.`, done: today.hosts > 0, act: <AddHost primary /> },
    { title: t`Add a source`, about: t`The configured site that others are to be made like. It is only read.`, done: today.sources > 0, act: <AddSource primary /> },
    { title: t`Survey it`, about: t`One reading says what is there, how large it is, and what should not go along.`, done: sources.some((s) => s.survey), act: source && <StartSurvey source={source.name} primary /> },
    { title: t`Create a starter`, about: t`A named line of packages, with a list of what goes in and what stays out.`, done: today.starters > 0, act: surveyed && <CreateStarter source={surveyed.name} /> },
    { title: t`Build a release`, about: t`The source as it is now, packed, with secrets and people taken out.`, done: release !== undefined, act: starter && <ButtonLink primary to={`/starters/${starter.name}`}><Trans>Go to {starter.name}</Trans></ButtonLink> },
    { title: t`Add a client`, about: t`Whose site it is to be: title, address for mail, and what else the starter asks for.`, done: today.clients > 0, act: <AddClient primary /> },
    { title: t`Make the site`, about: t`The plan says what will happen before anything does.`, done: today.sites > 0, act: <ButtonLink primary to="/sites/new"><Trans>Make a site</Trans></ButtonLink> },
  ]
  const next = steps.findIndex((s) => !s.done)
  return (
    <Sheet title={t`From here to the first site`} aside={t`${steps.filter((s) => s.done).length} of ${steps.length} done`} className="max-w-[56rem]">
      <ol>
        {steps.map((s, i) => (
          <li key={s.title} aria-current={i === next ? 'step' : undefined}
            className={cx('px-4 py-3 border-t border-line grid grid-cols-[2rem_1fr_auto] gap-x-2 items-start', i === next && 'bg-leaf-wash/60')}>
            <span className="font-mono text-faint">{s.done ? <Check size={16} className="text-leaf" aria-label={t`done`} /> : i + 1}</span>
            <div><p className={cx('font-bold', s.done && 'text-soft')}>{s.title}</p><p className="text-soft">{s.about}</p></div>
            {i === next && s.act}
          </li>
        ))}
      </ol>
      {today.sources === 0 && <TheSample />}
      <p className="px-4 py-3 border-t border-line text-soft"><Trans>You can leave at any step; it goes on from there.</Trans></p>
    </Sheet>
  )
}

/** The demo's servers, where they run: the first three steps are done with what is on them. */
function TheSample() {
  const sample = useSample().data
  const take = useTakeSample()
  const { start } = useFollow()
  if (!sample?.there) return null
  return (
    <div className="px-4 py-3 border-t border-line grid grid-cols-[1fr_auto] gap-x-4 items-start">
      <div><p className="font-bold"><Trans>Or try it with made-up data</Trans></p><p className="text-soft">{sample.about}</p><Trouble error={take.error} /></div>
      <Button disabled={take.isPending} onClick={() => start(take.mutateAsync())}><Trans>Try it with the demo data</Trans></Button>
    </div>
  )
}
