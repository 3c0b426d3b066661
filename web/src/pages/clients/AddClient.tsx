import { t } from '@lingui/core/macro'
import { useNavigate } from 'react-router'
import { useAddClient } from '../../api/hooks'
import { Ask, text } from '../../parts/Dialog'
import { TextField } from '../../parts/Field'

export const namePattern = '[a-z0-9][a-z0-9\\-]*'

export function AddClient({ primary }: { primary?: boolean }) {
  const add = useAddClient()
  const go = useNavigate()
  return (
    <Ask asks="NewClient" button={t`Add a client`} primary={primary} title={t`Add a client`} about={t`What else a starter asks for is filled in on the client’s page.`} action={t`Add`}
      onSubmit={async (f) => {
        const settings: Record<string, string> = {}
        for (const k of ['title', 'email']) if (text(f, k)) settings[k] = text(f, k)
        void go(`/clients/${(await add.mutateAsync({ name: text(f, 'name'), settings })).name}`)
      }}>
      <TextField label={t`Name`} name="name" hint={t`small letters, digits, dashes; sites are named after it`} mono />
      <TextField label={t`Site title`} name="title" />
      <TextField label={t`Contact e-mail`} name="email" type="email" />
    </Ask>
  )
}
