import { t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { useEditPacking, usePacking } from '../../api/hooks'
import { size } from '../../lib/format'
import { Button } from '../../parts/Button'
import { Trouble } from '../../parts/Says'
import { contains, remedyWord, type Edit } from './remedy'

/** The button that makes a remedy part of a starter's packing list, or takes it out again. */
export function Remedy({ starter, edit, word }: { starter: string; edit: Edit; word?: string }) {
  const packing = usePacking(starter)
  const change = useEditPacking()
  const there = contains(packing.data?.list, edit)
  return (
    <span className="flex flex-wrap items-center gap-2 justify-end">
      {there && <span className="text-soft whitespace-nowrap">{change.data ? <Trans>{starter} has this rule: <Plural value={change.data.in.files} one="# file" other="# files" />, {size(change.data.in.bytes)} go in</Trans>
        : <Trans>{starter} has this rule</Trans>}</span>}
      <Button small disabled={change.isPending || packing.isPending} onClick={() => change.mutate({ name: starter, edit: there ? { ...edit, take_back: true } : edit })}>
        {there ? t`Remove rule` : word ?? `${remedyWord(edit)} ${starter}`}
      </Button>
      <Trouble error={change.error} />
    </span>
  )
}
