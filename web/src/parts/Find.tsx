import { t } from '@lingui/core/macro'
import { Input } from './Field'

/** The search field of a list; "/" goes to it. */
export function Find({ label, value, onChange }: { label: string; value: string; onChange: (text: string) => void }) {
  return (
    <Input data-find aria-label={t`Find by ${label}`} placeholder={label} type="search" value={value} onChange={(e) => onChange(e.target.value)}
      className="w-56! max-w-full h-[26px]!" />
  )
}
