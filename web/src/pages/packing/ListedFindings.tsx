import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import type { Schemas } from '../../api/client'
import { Button } from '../../parts/Button'
import { Empty } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { Bytes } from '../../parts/SizeBar'
import { Result } from '../../parts/Status'
import { To } from '../../parts/Links'
import { contains, remedyDone, remedyVerb } from '../sources/remedy'

type ListedProps = { findings: Schemas['Finding'][]; list: Schemas['PackingList']; source: string; busy: boolean; onEdit: (edit: Schemas['ListEdit']) => void }

/** What the survey found that a packing list can deal with: those that are still open first. */
export function ListedFindings({ findings, list, source, busy, onEdit }: ListedProps) {
  const those = findings.filter((f) => f.remedy).map((f) => ({ f, done: contains(list, f.remedy!) })).sort((a, b) => Number(a.done) - Number(b.done))
  const open = those.filter((task) => !task.done).length
  return (
    <Sheet title={t`From the survey`} aside={open > 0 ? t`${open} left to decide` : t`all decided`}>
      {those.length === 0 ? <Empty><Trans>Nothing that a list could deal with; <To to={`/sources/${source}#findings`}>all findings</To>.</Trans></Empty> : (
        <ul className="max-h-72 overflow-auto" tabIndex={0} aria-label={t`Findings`}>
          {those.map(({ f, done }) => (
            <li key={f.what + f.where} className="px-4 py-1.5 border-t border-line flex items-center gap-3">
              <Result result={f.severity} />
              <span className="min-w-0 flex-1"><b>{f.what}</b><span className="block font-mono text-[0.9rem] text-soft truncate" title={f.where}>{f.where}</span></span>
              {f.bytes > 0 && <Bytes of={f.bytes} />}
              <Button small disabled={busy} title={done ? t`Remove rule` : undefined} onClick={() => onEdit(done ? { ...f.remedy!, take_back: true } : f.remedy!)}>
                {done ? `✓ ${remedyDone(f.remedy!)}` : remedyVerb(f.remedy!)}
              </Button>
            </li>
          ))}
        </ul>
      )}
    </Sheet>
  )
}
