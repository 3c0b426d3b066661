import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import type { FormEvent } from 'react'
import { useLogin } from '../api/hooks'
import { Button } from './Button'
import { text } from './Dialog'
import { TextField } from './Field'
import { Trouble } from './Says'

/** Name and password; the name stays when the password is wrong. */
export function LoginForm({ name }: { name?: string }) {
  const login = useLogin()
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault()
    const form = new FormData(e.currentTarget)
    login.mutate({ name: text(form, 'name'), password: String(form.get('password')) })
  }
  return (
    <form onSubmit={submit} className="grid gap-4">
      <TextField label={t`Name`} name="name" required autoFocus={!name} autoComplete="username" defaultValue={name} />
      <TextField label={t`Password`} name="password" type="password" required autoFocus={!!name} autoComplete="current-password" />
      <Trouble error={login.error} own />
      <Button primary type="submit" disabled={login.isPending}><Trans>Log in</Trans></Button>
    </form>
  )
}
