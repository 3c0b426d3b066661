import { useNavigate } from 'react-router'
import { useAddClient, useClients } from '../../api/hooks'
import { Ask, text } from '../../parts/Dialog'
import { Empty, Field, Head, Input, Loading, Rows, Sheet, To, Trouble } from '../../parts/basics'
import { day } from '../../parts/format'

export function Clients() {
  const clients = useClients()
  const add = useAddClient()
  const go = useNavigate()
  const rows = clients.data ?? []
  return (
    <>
      <Head title="Clients" facts="Customers of the agency: the settings their sites get.">
        <Ask button="Add a client" primary title="Add a client" about="Its settings are filled in on its page." action="Add"
          onSubmit={async (f) => {
            const settings: Record<string, string> = {}
            for (const k of ['title', 'email']) if (text(f, k)) settings[k] = text(f, k)
            go(`/clients/${(await add.mutateAsync({ name: text(f, 'name'), settings })).name}`)
          }}>
          <Field label="Name" hint="small letters, digits, dashes; sites are named after it">{(id) => <Input id={id} name="name" required pattern="[a-z0-9][a-z0-9\-]*" />}</Field>
          <Field label="Site title">{(id) => <Input id={id} name="title" />}</Field>
          <Field label="Contact e-mail">{(id) => <Input id={id} name="email" type="email" />}</Field>
        </Ask>
      </Head>
      <Trouble error={clients.error} />
      <Sheet>
        {clients.isPending ? <Loading /> : rows.length === 0 ? <Empty>No clients yet. Add one here, or many with: nestseed client import FILE.csv</Empty> : (
          <Rows caption="Clients" rows={rows} by={(c) => c.name} columns={[
            { head: 'Client', cell: (c) => <To to={`/clients/${c.name}`}>{c.name}</To> },
            { head: 'Title', grow: true, cell: (c) => c.settings.title?.value },
            { head: 'E-mail', cell: (c) => c.settings.email?.value },
            { head: 'Settings', right: true, cell: (c) => Object.keys(c.settings).length },
            { head: 'Sites', right: true, cell: (c) => c.sites },
            { head: 'Since', right: true, cell: (c) => day(c.created_at) },
          ]} />
        )}
      </Sheet>
    </>
  )
}
