import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useEffect, useState } from 'react'
import { useOpenHandover } from '../../api/hooks'
import { Mark } from '../../parts/Mark'
import { Button } from '../../parts/Button'
import { Trouble } from '../../parts/Says'
import { ClientSheet } from './ClientSheet'

/**
 * The page behind a handover link. What opens it stands behind the #, which browsers send to no server; it is taken
 * out of the address once it was used, and nothing is asked for before a person says so: programs that look at links
 * in mail must not use it up.
 */
export function Handover() {
  useEffect(() => { document.title = t`Your site is ready` }, [])
  const [key] = useState(() => location.hash.slice(1))
  const open = useOpenHandover()
  const [copied, setCopied] = useState(false)
  const show = async () => {
    await open.mutateAsync(key)
    history.replaceState(null, '', location.pathname)
  }
  if (open.data) {
    const { password, ...sheet } = open.data
    return (
      <main className="min-h-screen p-3 sm:p-6 print:p-0">
        <div className="max-w-[46rem] mx-auto mb-4 flex flex-wrap items-center gap-3 print:hidden" role="status">
          <p className="flex-1"><Trans>Save your password now: this link will not open again.</Trans></p>
          <Button onClick={() => print()}><Trans>Print without the password</Trans></Button>
        </div>
        <ClientSheet sheet={sheet} password={password ? (
          <span className="inline-flex items-center gap-2"><code className="font-mono text-[1.15rem] select-all">{password}</code>
            <Button small onClick={async () => { await navigator.clipboard.writeText(password); setCopied(true) }}>{copied ? t`Copied` : t`Copy`}</Button></span>
        ) : <span><Trans>the one you have: accounts were kept</Trans></span>} />
      </main>
    )
  }
  return (
    <main className="min-h-screen grid place-items-center p-6">
      <div className="w-[26rem] max-w-full grid gap-4">
        <div className="flex items-center gap-3"><Mark large /><h1 className="text-[1.7rem] font-bold tracking-tight"><Trans>Your site is ready</Trans></h1></div>
        {key === '' ? <p role="alert"><Trans>This address is not whole: copy the link with everything behind the #.</Trans></p> : (
          <>
            <p className="text-soft"><Trans>Behind this page are its address, your login and what to do next. It opens once; have somewhere to keep the password.</Trans></p>
            <Trouble error={open.error} />
            {!open.error && <Button primary className="justify-center" disabled={open.isPending} onClick={() => { show().catch(() => {}) }}><Trans>Open it now</Trans></Button>}
          </>
        )}
      </div>
    </main>
  )
}
