import { plural, t } from '@lingui/core/macro'
import { useMemo } from 'react'
import type { ClientRow } from '../../api/client'
import { useClients, useStarters } from '../../api/hooks'
import { useAddressValue, useSearchText } from '../../lib/address'
import { Chips } from '../../parts/Chips'
import { Find } from '../../parts/Find'
import { Head } from '../../parts/Head'
import { List, type ListColumn } from '../../parts/List'
import { To } from '../../parts/Links'
import { Empty, Shown } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { When } from '../../parts/When'
import { AddClient } from './AddClient'
import { ImportClients } from './ImportClients'
import { SettingsTable } from './SettingsTable'

const columns: ListColumn<ClientRow>[] = [
  { id: 'client', head: t`Client`, fixed: true, cell: (c) => <To to={`/clients/${c.name}`}>{c.name}</To> },
  { id: 'title', head: t`Title`, grow: true, cell: (c) => c.title },
  { id: 'email', head: t`E-mail`, cell: (c) => c.email },
  { id: 'settings', head: t`Settings`, wide: true, right: true, cell: (c) => c.settings },
  { id: 'sites', head: t`Sites`, right: true, cell: (c) => (c.sites > 0 ? <To to={`/sites?client=${c.name}`}>{c.sites}</To> : '0') },
  { id: 'since', head: t`Since`, wide: true, cell: (c) => <When at={c.created_at} /> },
]

export function Clients() {
  const search = useSearchText()
  const [starter, setStarter] = useAddressValue('asked-by')
  const starters = useStarters().data ?? []
  const clients = useClients({ find: search.find || undefined })
  const rows = useMemo(() => clients.data?.pages.flatMap((p) => p.clients) ?? [], [clients.data])
  const total = clients.data?.pages[0]?.total ?? 0
  return (
    <>
      <Head title={t`Clients`} facts={t`Customers of the agency: the settings their sites get.`}>
        <ImportClients />
        <AddClient primary />
      </Head>
      <div className="flex items-center gap-3 mb-3">
        <Find label={t`name, title or e-mail`} value={search.typed} onChange={search.type} /><span className="text-soft">{plural(total, { one: '# client', other: '# clients' })}</span>
      </div>
      {starters.length > 0 && (
        <div className="mb-3"><Chips label={t`Filter clients`} value={starter} onPick={setStarter} chips={[{ value: '', label: t`all clients` }, ...starters.map((s) => ({ value: s.name, label: t`what ${s.name} asks for` }))]} /></div>
      )}
      {starter ? <SettingsTable key={starter} starter={starter} find={search.find} /> : <Sheet>
        <Shown of={clients}>{() => rows.length === 0 ? (
          <Empty>{search.find ? t`No client is like that.` : t`None yet. Add one, or many from a table: a column “name”, and one for each setting.`}</Empty>
        ) : (
          <List name="clients" caption={t`Clients`} rows={rows} by={(c) => c.name} columns={columns}
            more={clients.hasNextPage && !clients.isFetchingNextPage ? () => void clients.fetchNextPage() : undefined} />
        )}</Shown>
      </Sheet>}
    </>
  )
}
