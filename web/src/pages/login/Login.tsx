import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useEffect } from 'react'
import { LoginForm } from '../../parts/LoginForm'
import { Mark } from '../../parts/Mark'

export function Login() {
  useEffect(() => { document.title = t`Log in · Nest Seed` }, [])
  return (
    <main className="min-h-screen grid place-items-center p-6">
      <div className="w-80 max-w-full grid gap-4">
        <div className="flex items-center gap-3"><Mark large /><h1 className="text-[1.7rem] font-bold tracking-tight"><Trans>Nest Seed</Trans></h1></div>
        <p className="text-soft"><Trans>Starter packages from configured sites, and client sites from them.</Trans></p>
        <LoginForm />
        <p className="text-faint"><Trans>The first start of the service prints the owner’s password in its terminal.</Trans></p>
      </div>
    </main>
  )
}
