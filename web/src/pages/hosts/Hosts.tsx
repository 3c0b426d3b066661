import type { Schemas } from '../../api/client'
import { useNavigate } from 'react-router'
import { useAddHost, useAddInstall, useChangeHost, useHosts, useInstalls, useReleases, useTestHost } from '../../api/hooks'
import { Ask, text } from '../../parts/Dialog'
import { Button, Empty, Field, Head, Input, Loading, Rows, Select, Sheet, To, Trouble } from '../../parts/basics'
import { day } from '../../parts/format'

export function Hosts() {
  const hosts = useHosts()
  const test = useTestHost()
  const rows = hosts.data ?? []
  return (
    <>
      <Head title="Hosts" facts="Places with files and database servers, where sources are read and sites are placed."><AddHost /></Head>
      <Trouble error={hosts.error ?? test.error} />
      {test.isPending && <p role="status" className="text-soft mb-3">{test.variables} is being tried, step by step …</p>}
      {test.data && <Steps host={test.variables ?? ''} steps={test.data.steps} />}
      <Sheet>
        {hosts.isPending ? <Loading /> : rows.length === 0 ? <Empty>No hosts yet. Everything begins with one.</Empty> : (
          <Rows caption="Hosts" rows={rows} by={(h) => h.name} columns={[
            { head: 'Host', cell: (h) => <><b>{h.name}</b><Runs host={h} /></> },
            { head: 'Files, and the web root of a site', grow: true, cell: (h) => <span className="font-mono break-all">{h.files}<span className="block text-soft">{h.web_root}</span></span> },
            { head: 'Address of a site, and database', cell: (h) => <span className="font-mono">{h.address}{h.database.split(' ').map((d) => <span key={d} className="block text-soft">{d}</span>)}</span> },
            { head: '', cell: (h) => <span className="flex gap-1 justify-end"><Button small disabled={test.isPending} onClick={() => test.mutate(h.name)}>Test</Button><ChangeHost host={h} /></span> },
          ]} />
        )}
      </Sheet>
      <Installs />
    </>
  )
}

/** Code on hosts that several sites share. */
function Installs() {
  const installs = useInstalls().data ?? []
  const hosts = useHosts().data ?? []
  const releases = (useReleases().data ?? []).filter((r) => r.kept)
  const add = useAddInstall()
  const go = useNavigate()
  if (hosts.length === 0 || releases.length === 0) return null
  return (
    <Sheet className="mt-4" title="Installs" aside={
      <Ask small button="Add an install" title="Add an install" about="The code of a release is placed on a host once, for sites to share; each has settings, content and a database of its own." action="Place the code"
        onSubmit={async (f) => go(`/runs/${(await add.mutateAsync({ name: text(f, 'name'), from: text(f, 'from'), host: text(f, 'host') })).id}`)}>
        <Field label="Name">{(id) => <Input id={id} name="name" required pattern="[a-z0-9][a-z0-9\-]*" />}</Field>
        <Field label="Code of">{(id) => <Select id={id} name="from">{releases.map((r) => <option key={r.ref}>{r.ref}</option>)}</Select>}</Field>
        <Field label="Host">{(id) => <Select id={id} name="host">{hosts.map((h) => <option key={h.name}>{h.name}</option>)}</Select>}</Field>
      </Ask>}>
      {installs.length === 0 ? <Empty>None. Where many sites of a host have the same code, they can share one copy of it.</Empty> : (
        <Rows caption="Installs" rows={installs} by={(i) => i.name} columns={[
          { head: 'Install', cell: (i) => <To to={`/installs/${i.name}`}>{i.name}</To> },
          { head: 'Host', grow: true, cell: (i) => i.host },
          { head: 'Sites', cell: (i) => i.tenants },
          { head: 'Since', cell: (i) => day(i.made_at) },
        ]} />
      )}
    </Sheet>
  )
}

function Runs({ host }: { host: Schemas['Host'] }) {
  if (!host.runtimes?.length) return <span className="block text-soft">not asked yet</span>
  return <>{host.runtimes.map((r) => <span key={r.name} className="block text-soft whitespace-nowrap" title={`as it told on ${day(r.asked_at)}, with ${r.parts.join(', ')}`}>{r.name} {r.version}</span>)}</>
}

const marks = { pass: ['✓', 'works', 'text-leaf-strong'], warn: ['!', 'look at it', 'text-amber'], fail: ['✗', 'does not work', 'text-clay'] } as const

function Steps({ host, steps }: { host: string; steps: Schemas['Check'][] }) {
  const ask = steps.flatMap((s) => s.remedy ? [s.remedy] : [])
  return (
    <Sheet className="p-4 mb-3">
      <h2 className="font-bold mb-2">{host}, as it was tried just now</h2>
      <dl role="status" className="grid grid-cols-[auto_auto_1fr] gap-x-3 gap-y-1">
        {steps.map((s) => (
          <div key={s.name} className="contents">
            <dt className={marks[s.result][2]}><span aria-hidden>{marks[s.result][0]}</span><span className="sr-only">{marks[s.result][1]}</span></dt>
            <dd className="whitespace-nowrap font-bold">{s.name}</dd>
            <dd className="break-words min-w-0">{s.sentence}{s.evidence?.map((e) => <span key={e} className="block text-soft">{e}</span>)}</dd>
          </div>
        ))}
      </dl>
      {ask.length > 0 && (
        <>
          <h3 className="font-bold mt-3">Ask the hosting company</h3>
          <textarea readOnly aria-label="What to ask the hosting company" rows={Math.min(8, ask.length * 2)} className="w-full font-mono p-2 rounded bg-bench" value={ask.map((a) => `- ${a}`).join('\n')} />
        </>
      )}
    </Sheet>
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
      onSubmit={(f) => change.mutateAsync({ name: host.name, ...entered(f), connect: text(f, 'connect'), new_host_key: f.get('new_host_key') === 'on' || undefined })}>
      <HostFields of={host} />
    </Ask>
  )
}

const entered = (f: FormData) => ({ files: text(f, 'files'), web_root: text(f, 'web_root'), address: text(f, 'address'), database: text(f, 'database'), database_password: text(f, 'password') || undefined, files_password: text(f, 'files_password') || undefined, files_key: text(f, 'files_key') || undefined })

function HostFields({ of }: { of?: Schemas['Host'] }) {
  return (
    <>
      <Field label="Files" hint="a folder of this machine like file:///srv/www?owner=www-data, over SSH like sftp://studio@files.example/home/studio/www, or over FTP with TLS like ftps://studio@files.example/www">{(id) => <Input id={id} name="files" required defaultValue={of?.files} className="font-mono" />}</Field>
      <details className="[&>div]:mt-3">
        <summary className="cursor-pointer">How the account for the files logs in, over SSH or FTP</summary>
        <Field label="Password, or passphrase of the key" hint={of && 'the one in the vault stays unless you give another'}>{(id) => <Input id={id} name="files_password" type="password" autoComplete="off" />}</Field>
        <Field label="Private key" hint="as OpenSSH writes it; for SSH only">{(id) => <textarea id={id} name="files_key" rows={3} autoComplete="off" spellCheck={false} className="w-full font-mono border border-line rounded p-2" />}</Field>
        {of?.host_key && <p>It shows the key <span className="font-mono break-all">{of.host_key}</span>. <label><input type="checkbox" name="new_host_key" /> Take the key that it shows now, because the hosting company has changed it</label></p>}
      </details>
      <Field label="Web root of a site" hint="a folder below the files">{(id) => <Input id={id} name="web_root" required defaultValue={of?.web_root ?? '{name}'} className="font-mono" />}</Field>
      <Field label="Address of a site" hint="like https://{name}.preview.example">{(id) => <Input id={id} name="address" required defaultValue={of?.address} className="font-mono" />}</Field>
      <Field label="Database server" hint="like mysql://admin@127.0.0.1:3306/ or postgres://admin@127.0.0.1:5432/, with ?through=files when it is reached through the SSH of the files; several apart by a space">{(id) => <Input id={id} name="database" required defaultValue={of?.database} className="font-mono" />}</Field>
      <Field label="Password of the database account" hint={of && 'the one in the vault stays unless you give another'}>{(id) => <Input id={id} name="password" type="password" autoComplete="off" />}</Field>
      <Field label="Connect checks to" hint="host or host:port, while DNS does not point there yet">{(id) => <Input id={id} name="connect" defaultValue={of?.connect} className="font-mono" />}</Field>
    </>
  )
}
