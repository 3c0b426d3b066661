import { t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { useInstalls } from '../../api/hooks'
import { Field, Select } from '../../parts/Field'

/** Whether sites get code of their own, or share that of an install: then that says which release and host. */
export function CodeChoice({ value, onPick }: { value: string; onPick: (install: string) => void }) {
  const installs = useInstalls().data ?? []
  if (installs.length === 0) return null
  return (
    <Field label={t`Code`} hint={value && t`release and host are the install’s`}>{(id, by) => (
      <Select id={id} aria-describedby={by} value={value} onChange={(e) => onPick(e.target.value)}>
        <option value=""><Trans>of its own</Trans></option>
        {installs.map((i) => <option key={i.name} value={i.name}><Trans>shared: install {i.name} on {i.host}, <Plural value={i.tenants} one="# site" other="# sites" /></Trans></option>)}
      </Select>
    )}</Field>
  )
}
