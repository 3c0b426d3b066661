import { useNavigate } from 'react-router'
import { useAddInstall, useHosts, useInstalls, useReleases } from '../../api/hooks'
import { Ask, text } from '../../parts/Dialog'
import { SelectField, TextField } from '../../parts/Field'
import { Head } from '../../parts/Head'
import { To } from '../../parts/Links'
import { Rows } from '../../parts/Rows'
import { Empty, Shown } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { When } from '../../parts/When'
import { AddHost } from './AddHost'

export function Hosts() {
  const hosts = useHosts()
  return (
    <>
      <Head title="Hosts" facts="Places with files and database servers, where sources are read and sites are placed."><AddHost primary /></Head>
      <div className="grid gap-4">
        <Sheet>
          <Shown of={hosts}>{(rows) => rows.length === 0 ? <Empty>None yet. Everything begins with one: a folder, addresses for its sites, and a database server.</Empty> : (
            <Rows caption="Hosts" rows={rows} by={(h) => h.name} columns={[
              { head: 'Host', cell: (h) => <To to={`/hosts/${h.name}`}>{h.name}</To> },
              { head: 'Files', grow: true, cell: (h) => <span className="font-mono break-all">{h.files}</span> },
              { head: 'Address of a site', cell: (h) => <span className="font-mono">{h.address}</span> },
              { head: 'Runs', cell: (h) => h.runtimes?.map((r) => `${r.name} ${r.version}`).join(', ') || <span className="text-soft">not asked yet</span> },
            ]} />
          )}</Shown>
        </Sheet>
        <Installs />
      </div>
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
    <Sheet title="Installs" aside={
      <Ask asks="NewInstall" small button="Add an install" title="Add an install" about="The code of a release is placed on a host once, for sites to share; each has settings, content and a database of its own." action="Place the code"
        onSubmit={async (f) => { void go(`/runs/${(await add.mutateAsync({ name: text(f, 'name'), from: text(f, 'from'), host: text(f, 'host') })).id}`) }}>
        <TextField label="Name" name="name" mono />
        <SelectField label="Code of" name="from" choices={releases.map((r) => ({ value: r.ref }))} />
        <SelectField label="Host" name="host" choices={hosts.map((h) => ({ value: h.name }))} />
      </Ask>}>
      {installs.length === 0 ? <Empty>None. Where many sites of a host have the same code, they can share one copy of it.</Empty> : (
        <Rows caption="Installs" rows={installs} by={(i) => i.name} columns={[
          { head: 'Install', cell: (i) => <To to={`/installs/${i.name}`}>{i.name}</To> },
          { head: 'Host', grow: true, cell: (i) => i.host },
          { head: 'Sites', right: true, cell: (i) => i.tenants },
          { head: 'Since', cell: (i) => <When at={i.made_at} /> },
        ]} />
      )}
    </Sheet>
  )
}
