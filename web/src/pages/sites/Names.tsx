import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useState } from 'react'
import type { Schemas } from '../../api/client'
import { useAskDNS } from '../../api/hooks'
import { Button } from '../../parts/Button'
import { Field, Input } from '../../parts/Field'
import { Rows } from '../../parts/Rows'
import { Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'

/** Where DNS leads visitors, and what a move to other name servers would lose. */
export function Names({ site }: { site: string }) {
  const ask = useAskDNS()
  const [servers, setServers] = useState('')
  const d = ask.data
  const named = servers.split(/[\s,]+/).filter(Boolean)
  return (
    <Sheet title={t`Its name in DNS`} aside={d && (d.leads ? t`leads here` : t`does not lead here everywhere`)}>
      <form className="px-4 pb-3 flex gap-2 items-end" onSubmit={(e) => { e.preventDefault(); ask.mutate({ site, nameServers: named }) }}>
        <div className="grow"><Field label={t`Name servers that it is to move to`} hint={t`if any: they are asked for every record`}>{(id) => <Input id={id} value={servers} onChange={(e) => setServers(e.target.value)} className="font-mono" />}</Field></div>
        <span className="pb-6"><Button disabled={ask.isPending}>{ask.isPending ? t`Asking …` : t`Ask DNS`}</Button></span>
      </form>
      <Trouble error={ask.error} />
      {d && (
        <div role="status">
          <ul className="px-4 pb-2 list-disc ml-4">{d.sentences.map((s) => <li key={s}>{s}</li>)}</ul>
          <Rows caption={t`Who was asked`} rows={[...d.name_servers, ...d.resolvers]} by={(a) => a.server} columns={[
            { head: t`Asked`, cell: (a) => <span className="font-mono">{a.server}</span> },
            { head: t`Leads to`, grow: true, cell: (a) => a.error ?? (a.addresses.join(', ') || t`nowhere`) },
          ]} />
          <Records title={t`Mail depends on`} of={d.mail} />
          <Records title={t`Would be lost`} of={d.lost} />
          <p className="px-4 py-3"><Trans><a className="underline" download={`${d.zone}zone`} href={`data:text/plain;charset=utf-8,${encodeURIComponent(d.zone_file)}`}>Save the records as a zone file</a>, to hand over</Trans></p>
        </div>
      )}
    </Sheet>
  )
}

function Records({ title, of }: { title: string; of: Schemas['DNSRecord'][] }) {
  if (of.length === 0) return null
  return (
    <Rows caption={title} rows={of} by={(r) => `${r.name} ${r.type} ${r.value}`} columns={[
      { head: title, cell: (r) => <span className="font-mono">{r.name}</span> },
      { head: '', cell: (r) => <span className="font-mono">{r.type}</span> },
      { head: '', grow: true, cell: (r) => <span className="font-mono break-all">{r.value}</span> },
    ]} />
  )
}
