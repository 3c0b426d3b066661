import { t } from '@lingui/core/macro'
import { useNavigate } from 'react-router'
import { useAddHost } from '../../api/hooks'
import { Ask, text } from '../../parts/Dialog'
import { TextField } from '../../parts/Field'
import { entered, HostFields } from './HostFields'

export function AddHost({ primary }: { primary?: boolean }) {
  const add = useAddHost()
  const go = useNavigate()
  return (
    <Ask asks="NewHost" button={t`Add a host`} primary={primary} title={t`Add a host`} about={t`It is tried at once; passwords and keys go into the vault.`} action={t`Add`}
      onSubmit={async (f) => {
        const h = await add.mutateAsync({ name: text(f, 'name'), ...entered(f), connect: text(f, 'connect') || undefined })
        void go(`/hosts/${h.name}`)
      }}>
      <TextField label={t`Name`} name="name" hint={t`small letters, digits, dashes`} mono />
      <HostFields />
    </Ask>
  )
}
