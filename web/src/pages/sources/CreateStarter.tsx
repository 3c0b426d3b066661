import { t } from '@lingui/core/macro'
import { useNavigate } from 'react-router'
import { useCreateStarter } from '../../api/hooks'
import { Ask, text } from '../../parts/Dialog'
import { SelectField, TextField } from '../../parts/Field'

export function CreateStarter({ source }: { source: string }) {
  const create = useCreateStarter()
  const go = useNavigate()
  return (
    <Ask asks="NewStarter" button={t`Create a starter`} primary title={t`Create a starter from ${source}`} about={t`A starter is a named line of packages for reuse. Its packing list says what goes in.`} action={t`Create`}
      onSubmit={async (f) => {
        const made = await create.mutateAsync({ name: text(f, 'name'), source, list: text(f, 'list') })
        void go(`/starters/${made.name}`)
      }}>
      <TextField label={t`Name`} name="name" hint={t`small letters, digits, dashes`} mono />
      <SelectField label={t`Packing list`} name="list" hint={t`“starter” takes out secrets and people; “whole site” is for moving it`}
        choices={[{ value: 'starter' }, { value: 'whole-site', label: t`whole site` }]} />
    </Ask>
  )
}
