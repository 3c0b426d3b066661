import { useParams } from 'react-router'
import { useClient, useSetClient, useSites } from '../../api/hooks'
import { Ask, text } from '../../parts/Dialog'
import { ButtonLink, Empty, Field, Head, Input, Loading, Out, Rows, Sheet, To, Trouble } from '../../parts/basics'
import { Reveal } from '../vault/Reveal'
import { Checks } from '../sites/Checks'

export function ClientPage() {
  const { name = '' } = useParams()
  const client = useClient(name)
  const sites = (useSites().data ?? []).filter((s) => s.client === name)
  if (client.isPending) return <Loading />
  if (!client.data) return <Trouble error={client.error} />
  const settings = Object.entries(client.data.settings).sort(([a], [b]) => a.localeCompare(b))
  return (
    <>
      <Head title={client.data.settings.title?.value || name} facts={<span className="font-mono">{name}</span>}><ButtonLink primary to={`/sites/new?client=${name}`}>Make a site</ButtonLink></Head>
      <div className="grid gap-4">
        <Sheet title="Settings" aside={<Change name={name} />}>
          {settings.length === 0 ? <Empty>None yet.</Empty> : (
            <Rows caption="Settings" rows={settings} by={([k]) => k} columns={[
              { head: 'Setting', cell: ([k]) => <span className="font-mono">{k}</span> },
              { head: 'Value', grow: true, cell: ([k, v]) => (v.secret ? <Reveal noun="client" owner={name} name={k} /> : v.value) },
              { head: '', cell: ([k, v]) => <Change name={name} of={k} value={v.secret ? '' : v.value} secret={v.secret} /> },
            ]} />
          )}
        </Sheet>
        <Sheet title="Sites">
          {sites.length === 0 ? <Empty>None yet.</Empty> : (
            <Rows caption="Sites" rows={sites} by={(s) => s.name} columns={[
              { head: 'Site', cell: (s) => <To to={`/sites/${s.name}`}>{s.name}</To> },
              { head: 'Address', grow: true, cell: (s) => <Out href={s.address} /> },
              { head: 'Release', cell: (s) => <To to={`/releases/${s.release}`}>{s.release}</To> },
              { head: 'Checks', cell: (s) => <Checks report={s.report} /> },
            ]} />
          )}
        </Sheet>
      </div>
    </>
  )
}

function Change({ name, of, value, secret }: { name: string; of?: string; value?: string; secret?: boolean }) {
  const set = useSetClient()
  return (
    <Ask small={!!of} button={of ? 'Change' : 'Add a setting'} title={of ? `Change ${of}` : 'Add a setting'} about={secret ? 'The new value goes into the vault.' : 'An empty value removes the setting.'} action="Save"
      onSubmit={(f) => {
        const key = of ?? text(f, 'key')
        return set.mutateAsync({ name, settings: { [key]: text(f, 'value') }, secret: secret || f.get('secret') ? [key] : undefined })
      }}>
      {!of && <Field label="Setting" hint="like title, email, phone">{(id) => <Input id={id} name="key" required pattern="[a-z0-9][a-z0-9_.\-]*" />}</Field>}
      <Field label="Value">{(id) => <Input id={id} name="value" defaultValue={value} autoComplete="off" type={secret ? 'password' : 'text'} />}</Field>
      {!of && <label className="flex gap-2 items-center"><input type="checkbox" name="secret" />Keep it in the vault</label>}
    </Ask>
  )
}
