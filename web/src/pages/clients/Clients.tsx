import { useMemo } from 'react'
import type { ClientRow } from '../../api/client'
import { useClients, useStarters } from '../../api/hooks'
import { useAddressValue, useSearchText } from '../../lib/address'
import { plural } from '../../lib/format'
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
  { id: 'client', head: 'Client', fixed: true, cell: (c) => <To to={`/clients/${c.name}`}>{c.name}</To> },
  { id: 'title', head: 'Title', grow: true, cell: (c) => c.title },
  { id: 'email', head: 'E-mail', cell: (c) => c.email },
  { id: 'settings', head: 'Settings', wide: true, right: true, cell: (c) => c.settings },
  { id: 'sites', head: 'Sites', right: true, cell: (c) => (c.sites > 0 ? <To to={`/sites?client=${c.name}`}>{c.sites}</To> : '0') },
  { id: 'since', head: 'Since', wide: true, cell: (c) => <When at={c.created_at} /> },
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
      <Head title="Clients" facts="Customers of the agency: the settings their sites get.">
        <ImportClients />
        <AddClient primary />
      </Head>
      <div className="flex items-center gap-3 mb-3">
        <Find label="name, title or e-mail" value={search.typed} onChange={search.type} /><span className="text-soft">{plural(total, 'client')}</span>
      </div>
      {starters.length > 0 && (
        <div className="mb-3"><Chips label="What of clients is shown" value={starter} onPick={setStarter} chips={[{ value: '', label: 'all clients' }, ...starters.map((t) => ({ value: t.name, label: `what ${t.name} asks for` }))]} /></div>
      )}
      {starter ? <SettingsTable key={starter} starter={starter} find={search.find} /> : <Sheet>
        <Shown of={clients}>{() => rows.length === 0 ? (
          <Empty>{search.find ? 'No client is like that.' : 'None yet. Add one, or many from a table: a column “name”, and one for each setting.'}</Empty>
        ) : (
          <List name="clients" caption="Clients" rows={rows} by={(c) => c.name} columns={columns}
            more={clients.hasNextPage && !clients.isFetchingNextPage ? () => void clients.fetchNextPage() : undefined} />
        )}</Shown>
      </Sheet>}
    </>
  )
}
