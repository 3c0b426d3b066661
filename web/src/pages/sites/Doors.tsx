import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useState } from 'react'
import type { Site } from '../../api/client'
import { useHold, useKinds, useStarters } from '../../api/hooks'
import { Button } from '../../parts/Button'
import { Copy } from '../../parts/Copy'
import { Ask } from '../../parts/Dialog'
import { Out } from '../../parts/Links'
import { Trouble } from '../../parts/Says'

/** Whether sites of this kind can be held: its definition says how, or not. */
function useHolds(site: Site): boolean {
  const starters = useStarters().data ?? []
  const kinds = useKinds().data ?? []
  const kind = starters.find((s) => s.name === site.release.split('@')[0])?.kind
  return kinds.find((k) => k.name === kind)?.holds ?? false
}

/** Lets visitors in or keeps them out; the preview link of a held site. */
export function Hold({ site }: { site: Site }) {
  const hold = useHold()
  const holds = useHolds(site)
  const [preview, setPreview] = useState('')
  if (!holds && !site.held) return null
  const set = (held: boolean) => void hold.mutateAsync({ name: site.name, held }).then((h) => setPreview(h.preview ?? '')).catch(() => {})
  return (
    <>
      {site.held && !preview && <Button small disabled={hold.isPending} onClick={() => set(true)}><Trans>Preview link</Trans></Button>}
      <Button small disabled={hold.isPending} onClick={() => set(!site.held)}>{site.held ? t`Open it` : t`Hold it`}</Button>
      {site.held && preview && <span className="flex items-center gap-2 w-full min-w-0"><span className="truncate"><Out href={preview} /></span><Copy text={preview} what={t`the preview link`} /></span>}
      <Trouble error={hold.error} />
    </>
  )
}

export function GoLive({ site }: { site: Site }) {
  const hold = useHold()
  return (
    <Ask small button={t`Go live…`} title={t`${site.name} goes live`} action={t`Go live`} about={t`Visitors and search engines are let in, and its mail goes out. To give it its own address first, move it.`}
      onSubmit={() => hold.mutateAsync({ name: site.name, held: false, visible: true })} />
  )
}
