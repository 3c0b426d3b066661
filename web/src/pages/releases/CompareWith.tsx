import { t } from '@lingui/core/macro'
import { useNavigate } from 'react-router'
import type { Release } from '../../api/client'
import { useCompare, useReleases } from '../../api/hooks'
import { Ask, text } from '../../parts/Dialog'
import { Field, Select } from '../../parts/Field'

const today = t`its source today`

/** Starts a comparison with another release of the starter, or with the source as it is now. */
export function CompareWith({ release }: { release: Release }) {
  const compare = useCompare()
  const go = useNavigate()
  const others = (useReleases(release.starter).data ?? []).filter((r) => r.ref !== release.ref && r.kept)
  if (!release.kept || (others.length === 0 && release.imported_from)) return null
  return (
    <Ask button={t`Compare…`} title={t`Compare ${release.ref}`} about={t`Files, tables and settings, with the bytes each accounts for.`} action={t`Compare`}
      onSubmit={async (f) => {
        const other = text(f, 'other')
        const older = others.find((r) => r.ref === other)?.number ?? 0
        const run = await compare.mutateAsync(other === today ? { from: release.ref, to_source: true } : older < release.number ? { from: other, to: release.ref } : { from: release.ref, to: other })
        go(`/comparisons/${run.id}`)
      }}>
      <Field label={t`With`}>{(id) => (
        <Select id={id} name="other">
          {others.map((r) => <option key={r.ref}>{r.ref}</option>)}
          {!release.imported_from && <option>{today}</option>}
        </Select>
      )}</Field>
    </Ask>
  )
}
