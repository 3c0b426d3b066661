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
  if (h.opened_at) return `opened ${day(h.opened_at)}`
  if (h.withdrawn_at) return 'withdrawn'
  return Date.parse(h.expires_at) < Date.now() ? `ended ${day(h.expires_at)}` : `not opened yet; ends ${day(h.expires_at)}`
}

/** Links by which the client gets address and login, once. A link is shown when it is made and never again. */
export function HandOver({ site }: { site: Site }) {
  const make = useHandOver()
  const withdraw = useWithdraw()
  const [link, setLink] = useState('')
  const links = site.handovers ?? []
  const open = links.some((h) => !h.opened_at && !h.withdrawn_at && Date.parse(h.expires_at) > Date.now())
  return (
    <Sheet title="Handover">
      <div className="px-4 pb-3 flex flex-wrap gap-2 items-center">
        <Ask asks="NewHandover" small button="Make a link" title={`Hand over ${site.title || site.name}`} action="Make it" about="Whoever opens the link first sees the address, the login and its password, once. Links that were made before and not opened stop working."
          onSubmit={async (form) => setLink(location.origin + (await make.mutateAsync({ name: site.name, days: Number(text(form, 'days')) || 7 })).path)}>
          <TextField label="Days until it ends" name="days" type="number" defaultValue={7} />
        </Ask>
        {open && <Button small onClick={() => { setLink(''); withdraw.mutate(site.name) }}>Withdraw it</Button>}
        <ButtonLink small to={`/sites/${site.name}/sheet`}>Page to print</ButtonLink>
        <Trouble error={withdraw.error} />
        {link && <p className="w-full break-all bg-leaf-wash rounded px-3 py-2" role="status"><b className="block">Send this to the client, and no one else; it is shown only here</b><code className="font-mono select-all">{link}</code></p>}
      </div>
      {links.length === 0 ? <Empty>Not handed over yet.</Empty> : (
        <ul aria-label="Handovers" className="pb-2">
          {links.slice(0, 5).map((h) => <li key={h.id} className="px-4 py-1 border-t border-line">Link of {day(h.made_at)} by {h.made_by}: <b>{state(h)}</b></li>)}
        </ul>
      )}
    </Sheet>
  )
}
