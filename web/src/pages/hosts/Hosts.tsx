import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
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
      <Head title={t`Hosts`} facts={t`Places with files and database servers, where sources are read and sites are placed.`}><AddHost primary /></Head>
      <div className="grid gap-4">
        <Sheet>
          <Shown of={hosts}>{(rows) => rows.length === 0 ? <Empty><Trans>None yet. Everything begins with one: a folder, addresses for its sites, and a database server.</Trans></Empty> : (
            <Rows caption={t`Hosts`} rows={rows} by={(h) => h.name} columns={[
              { head: t`Host`, cell: (h) => <To to={`/hosts/${h.name}`}>{h.name}</To> },
              { head: t`Files`, grow: true, cell: (h) => <span className="font-mono break-all">{h.files}</span> },
              { head: t`Address of a site`, wide: true, cell: (h) => <span className="font-mono">{h.address}</span> },
              { head: t`Runs`, cell: (h) => h.runtimes?.map((r) => `${r.name} ${r.version}`).join(', ') || <span className="text-soft"><Trans>not asked yet</Trans></span> },
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
    <Sheet title={t`Installs`} aside={
      <Ask asks="NewInstall" small button={t`Add an install`} title={t`Add an install`} about={t`The code of a release is placed on a host once, for sites to share; each has settings, content and a database of its own.`} action={t`Place the code`}
        onSubmit={async (f) => { void go(`/runs/${(await add.mutateAsync({ name: text(f, 'name'), from: text(f, 'from'), host: text(f, 'host') })).id}`) }}>
        <TextField label={t`Name`} name="name" mono />
        <SelectField label={t`Code of`} name="from" choices={releases.map((r) => ({ value: r.ref }))} />
        <SelectField label={t`Host`} name="host" choices={hosts.map((h) => ({ value: h.name }))} />
      </Ask>}>
      {installs.length === 0 ? <Empty><Trans>None. Where many sites of a host have the same code, they can share one copy of it.</Trans></Empty> : (
        <Rows caption={t`Installs`} rows={installs} by={(i) => i.name} columns={[
          { head: t`Install`, cell: (i) => <To to={`/installs/${i.name}`}>{i.name}</To> },
          { head: t`Host`, grow: true, cell: (i) => i.host },
          { head: t`Sites`, right: true, cell: (i) => i.tenants },
          { head: t`Since`, cell: (i) => <When at={i.made_at} /> },
        ]} />
      )}
    </Sheet>
  )
}
