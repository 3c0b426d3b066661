import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useState } from 'react'
import type { Schemas, Site } from '../../api/client'
import { useHandOver, useWithdraw } from '../../api/hooks'
import { Ask, text } from '../../parts/Dialog'
import { Button, ButtonLink } from '../../parts/Button'
import { TextField } from '../../parts/Field'
import { Empty, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { day } from '../../lib/format'

function state(h: Schemas['Handover']): string {
  if (h.opened_at) return t`opened ${day(h.opened_at)}`
  if (h.withdrawn_at) return t`withdrawn`
  return Date.parse(h.expires_at) < Date.now() ? t`ended ${day(h.expires_at)}` : t`not opened yet; ends ${day(h.expires_at)}`
}

/** Links by which the client gets address and login, once. A link is shown when it is made and never again. */
export function HandOver({ site }: { site: Site }) {
  const make = useHandOver()
  const withdraw = useWithdraw()
  const [link, setLink] = useState('')
  const links = site.handovers ?? []
  const open = links.some((h) => !h.opened_at && !h.withdrawn_at && Date.parse(h.expires_at) > Date.now())
  return (
    <Sheet title={t`Handover`}>
      <div className="px-4 pb-3 flex flex-wrap gap-2 items-center">
        <Ask asks="NewHandover" small button={t`Make a link`} title={t`Hand over ${site.title || site.name}`} action={t`Make it`} about={t`Whoever opens the link first sees the address, the login and its password, once. Links that were made before and not opened stop working.`}
          onSubmit={async (form) => setLink(location.origin + (await make.mutateAsync({ name: site.name, days: Number(text(form, 'days')) || 7 })).path)}>
          <TextField label={t`Days until it ends`} name="days" type="number" defaultValue={7} />
        </Ask>
        {open && <Button small onClick={() => { setLink(''); withdraw.mutate(site.name) }}><Trans>Withdraw it</Trans></Button>}
        <ButtonLink small to={`/sites/${site.name}/sheet`}><Trans>Printable sheet</Trans></ButtonLink>
        <Trouble error={withdraw.error} />
        {link && <p className="w-full break-all bg-leaf-wash rounded px-3 py-2" role="status"><b className="block"><Trans>Send this to the client, and no one else; it is shown only here</Trans></b><code className="font-mono select-all">{link}</code></p>}
      </div>
      {links.length === 0 ? <Empty><Trans>Not handed over yet.</Trans></Empty> : (
        <ul aria-label={t`Handovers`} className="pb-2">
          {links.slice(0, 5).map((h) => <li key={h.id} className="px-4 py-1 border-t border-line"><Trans>Link of {day(h.made_at)} by {h.made_by}: <b>{state(h)}</b></Trans></li>)}
        </ul>
      )}
    </Sheet>
  )
}
