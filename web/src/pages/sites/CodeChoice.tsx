import { useInstalls } from '../../api/hooks'
import { Field, Select } from '../../parts/Field'
import { plural } from '../../lib/format'

/** Whether sites get code of their own, or share that of an install: then that says which release and host. */
export function CodeChoice({ value, onPick }: { value: string; onPick: (install: string) => void }) {
  const installs = useInstalls().data ?? []
  if (installs.length === 0) return null
  return (
    <Field label="Code" hint={value && 'release and host are the install’s'}>{(id, by) => (
      <Select id={id} aria-describedby={by} value={value} onChange={(e) => onPick(e.target.value)}>
        <option value="">of its own</option>
        {installs.map((i) => <option key={i.name} value={i.name}>shared: install {i.name} on {i.host}, {plural(i.tenants, 'site')}</option>)}
      </Select>
    )}</Field>
  )
}
