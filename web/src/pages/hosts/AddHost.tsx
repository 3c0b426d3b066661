import { useNavigate } from 'react-router'
import { useAddHost } from '../../api/hooks'
import { Ask, text } from '../../parts/Dialog'
import { TextField } from '../../parts/Field'
import { entered, HostFields } from './HostFields'

export function AddHost({ primary }: { primary?: boolean }) {
  const add = useAddHost()
  const go = useNavigate()
  return (
    <Ask asks="NewHost" button="Add a host" primary={primary} title="Add a host" about="It is tried at once; passwords and keys go into the vault." action="Add"
      onSubmit={async (f) => {
        const h = await add.mutateAsync({ name: text(f, 'name'), ...entered(f), connect: text(f, 'connect') || undefined })
        void go(`/hosts/${h.name}`)
      }}>
      <TextField label="Name" name="name" hint="small letters, digits, dashes" mono />
      <HostFields />
    </Ask>
  )
}
