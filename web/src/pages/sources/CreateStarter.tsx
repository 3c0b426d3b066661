import { useNavigate } from 'react-router'
import { useCreateStarter } from '../../api/hooks'
import { Ask, text } from '../../parts/Dialog'
import { SelectField, TextField } from '../../parts/Field'

export function CreateStarter({ source }: { source: string }) {
  const create = useCreateStarter()
  const go = useNavigate()
  return (
    <Ask asks="NewStarter" button="Create a starter" primary title={`Create a starter from ${source}`} about="A starter is a named line of packages for reuse. Its packing list says what goes in." action="Create"
      onSubmit={async (f) => {
        const t = await create.mutateAsync({ name: text(f, 'name'), source, list: text(f, 'list') })
        void go(`/starters/${t.name}`)
      }}>
      <TextField label="Name" name="name" hint="small letters, digits, dashes" mono />
      <SelectField label="Packing list" name="list" hint="“starter” takes out secrets and people; “whole site” is for moving it"
        choices={[{ value: 'starter' }, { value: 'whole-site', label: 'whole site' }]} />
    </Ask>
  )
}
