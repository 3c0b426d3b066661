import { useEffect } from 'react'
import { LoginForm } from '../../parts/LoginForm'
import { Mark } from '../../parts/Mark'

export function Login() {
  useEffect(() => { document.title = 'Log in · Nest Seed' }, [])
  return (
    <main className="min-h-screen grid place-items-center p-6">
      <div className="w-80 max-w-full grid gap-4">
        <div className="flex items-center gap-3"><Mark large /><h1 className="text-[1.7rem] font-bold tracking-tight">Nest Seed</h1></div>
        <p className="text-soft">Starter packages from configured sites, and client sites from them.</p>
        <LoginForm />
        <p className="text-faint">The first start of the service prints the owner’s password in its terminal.</p>
      </div>
    </main>
  )
}
