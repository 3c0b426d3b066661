import type { Schemas } from '../../api/client'
import { useAddHost, useChangeHost, useHosts, useTestHost } from '../../api/hooks'
import { Ask, text } from '../../parts/Dialog'
import { Button, Empty, Field, Head, Input, Loading, Rows, Sheet, Trouble } from '../../parts/basics'
import { day, size } from '../../parts/format'

export function Hosts() {
  const hosts = useHosts()
  const test = useTestHost()
  const rows = hosts.data ?? []
  return (
    <>
      <Head title="Hosts" facts="Places with files and database servers, where sources are read and sites are placed."><AddHost /></Head>
      <Trouble error={hosts.error ?? test.error} />
      {test.data && <p role="status" className="text-leaf-strong bg-leaf-wash rounded px-3 py-2 mb-3">{test.variables}: {size(test.data.free_bytes)} free, files {test.data.writable ? 'can' : 'cannot'} be written, {test.data.server} answers{test.data.runtimes.map((r) => `, ${r.name} ${r.version} runs there`).join('')}.{test.data.runtimes_error && <> {test.data.runtimes_error}</>}</p>}
      {test.data?.refuses && <p role="alert" className="text-wrong bg-wrong-wash rounded px-3 py-2 mb-3">{test.variables}: {test.data.refuses}.</p>}
      <Sheet>
        {hosts.isPending ? <Loading /> : rows.length === 0 ? <Empty>No hosts yet. Everything begins with one.</Empty> : (
          <Rows caption="Hosts" rows={rows} by={(h) => h.name} columns={[
            { head: 'Host', cell: (h) => <b>{h.name}</b> },
            { head: 'Files', grow: true, cell: (h) => <span className="font-mono break-all">{h.files}</span> },
            { head: 'Web root', cell: (h) => <span className="font-mono">{h.web_root}</span> },
            { head: 'Address of a site', cell: (h) => <span className="font-mono">{h.address}</span> },
            { head: 'Database', cell: (h) => <span className="font-mono">{h.database}</span> },
            { head: 'Runs', cell: (h) => h.runtimes?.length ? h.runtimes.map((r) => <span key={r.name} title={`as it told on ${day(r.asked_at)}, with ${r.parts.join(', ')}`}>{r.name} {r.version}</span>) : <span className="text-soft">not asked</span> },
            { head: '', cell: (h) => <span className="flex gap-1 justify-end"><Button small disabled={test.isPending} onClick={() => test.mutate(h.name)}>Test</Button><ChangeHost host={h} /></span> },
          ]} />
        )}
      </Sheet>
    </>
  )
}

function AddHost() {
  const add = useAddHost()
  return (
    <Ask button="Add a host" primary title="Add a host" about="It is tried at once; the database account's password goes into the vault." action="Add"
      onSubmit={(f) => add.mutateAsync({ name: text(f, 'name'), ...entered(f), connect: text(f, 'connect') || undefined })}>
      <Field label="Name">{(id) => <Input id={id} name="name" required pattern="[a-z0-9][a-z0-9\-]*" />}</Field>
      <HostFields />
    </Ask>
  )
}

function ChangeHost({ host }: { host: Schemas['Host'] }) {
  const change = useChangeHost()
  return (
    <Ask button="Change" small title={`Change ${host.name}`} about="It is tried at once, and nothing is changed unless every site and source on it is found there. Sites that are made already keep their folders and addresses." action="Change"
      onSubmit={(f) => change.mutateAsync({ name: host.name, ...entered(f), connect: text(f, 'connect') })}>
      <HostFields of={host} />
    </Ask>
  )
}

const entered = (f: FormData) => ({ files: text(f, 'files'), web_root: text(f, 'web_root'), address: text(f, 'address'), database: text(f, 'database'), database_password: text(f, 'password') || undefined })

function HostFields({ of }: { of?: Schemas['Host'] }) {
  return (
    <>
      <Field label="Files" hint="like file:///srv/www?owner=www-data">{(id) => <Input id={id} name="files" required defaultValue={of?.files} className="font-mono" />}</Field>
      <Field label="Web root of a site" hint="a folder below the files">{(id) => <Input id={id} name="web_root" required defaultValue={of?.web_root ?? '{name}'} className="font-mono" />}</Field>
      <Field label="Address of a site" hint="like https://{name}.preview.example">{(id) => <Input id={id} name="address" required defaultValue={of?.address} className="font-mono" />}</Field>
      <Field label="Database server" hint="like mysql://admin@127.0.0.1:3306/">{(id) => <Input id={id} name="database" required defaultValue={of?.database} className="font-mono" />}</Field>
      <Field label="Password of the database account" hint={of && 'the one in the vault stays unless you give another'}>{(id) => <Input id={id} name="password" type="password" autoComplete="off" />}</Field>
      <Field label="Connect checks to" hint="host or host:port, while DNS does not point there yet">{(id) => <Input id={id} name="connect" defaultValue={of?.connect} className="font-mono" />}</Field>
    </>
  )
}
