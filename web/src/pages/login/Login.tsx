import type { FormEvent } from 'react'
import { useLogin } from '../../api/hooks'
import { text } from '../../parts/Dialog'
import { Mark } from '../../parts/Mark'
import { Button, Field, Input, Trouble } from '../../parts/basics'

export function Login() {
  const login = useLogin()
  const submit = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault()
    const form = new FormData(e.currentTarget)
    login.mutate({ name: text(form, 'name'), password: String(form.get('password')) })
  }
  return (
    <main className="min-h-screen grid place-items-center p-6">
      <form onSubmit={submit} className="w-80 grid gap-4">
        <div className="flex items-center gap-3"><Mark large /><h1 className="text-[1.7rem] font-bold tracking-tight">Nest Seed</h1></div>
        <p className="text-soft">Starter packages from configured sites, and client sites from them.</p>
        <Field label="Name">{(id) => <Input id={id} name="name" required autoFocus autoComplete="username" />}</Field>
        <Field label="Password">{(id) => <Input id={id} name="password" type="password" required autoComplete="current-password" />}</Field>
        <Trouble error={login.error} />
        <Button primary type="submit" disabled={login.isPending} className="justify-center">Log in</Button>
        <p className="text-faint">The first start of the service prints the owner's password in its terminal.</p>
      </form>
    </main>
  )
}
