import { ArrowRight, Check, CircleDashed, X } from 'lucide-react'
import { useState } from 'react'
import { useNavigate, useParams } from 'react-router'
import type { Schemas } from '../../api/client'
import { useInstall, useInstallMove, useInstallPlan, useReleases, useRemoveInstall } from '../../api/hooks'
import { Ask } from '../../parts/Dialog'
import { Field, Select } from '../../parts/Field'
import { Head } from '../../parts/Head'
import { To } from '../../parts/Links'
import { Rows } from '../../parts/Rows'
import { Empty, Loading, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { Bytes } from '../../parts/SizeBar'
import { Status } from '../../parts/Status'
import { count, day, plural } from '../../lib/format'

/** Code on a host and the sites that share it; newer code comes to all of them, one after the other. */
export function InstallPage() {
  const { name = '' } = useParams()
  const install = useInstall(name)
  if (!install.data) return install.error ? <Trouble error={install.error} /> : <Loading />
  const i = install.data
  const sites = i.sites ?? []
  return (
    <>
      <Head title={i.name} facts={<>Code on host {i.host} that {plural(sites.length, 'site')} {sites.length === 1 ? 'shares' : 'share'}; each has settings, content and a database of its own.</>}>
        <NewerCode install={i} />
        <GoBack install={i} />
        <Remove install={i} />
      </Head>
      <div className="grid gap-4">
        <Sheet title="Code">
          <Rows caption="Code" rows={i.codes ?? []} by={(c) => c.release} columns={[
            { head: 'Of', cell: (c) => <To to={`/releases/${c.release}`}>{c.release}</To> },
            { head: 'In', grow: true, cell: (c) => <span className="font-mono break-all">{c.folder}</span> },
            { head: 'Files', cell: (c) => <>{count(c.files)}, <Bytes of={c.bytes} /></> },
            { head: 'Sites', cell: (c) => c.tenants },
            { head: 'Since', cell: (c) => day(c.made_at) },
          ]} />
        </Sheet>
        <Sheet title="Sites">
          {sites.length === 0 ? <Empty>None yet. <To to="/sites/new">Make a site</To> and choose this install as its code.</Empty> : (
            <Rows caption="Sites" rows={sites} by={(s) => s.site} columns={[
              { head: 'Site', cell: (s) => <To to={`/sites/${s.site}`}>{s.site}</To> },
              { head: 'Address', grow: true, cell: (s) => <span className="font-mono">{s.address.replace(/^https?:\/\//, '')}</span> },
              { head: 'Code of', cell: (s) => s.release },
              { head: 'Checks', cell: (s) => !s.checked ? <Status tone="plain" icon={CircleDashed}>not checked</Status> : s.faults > 0 ? <Status tone="wrong" icon={X}>{plural(s.faults, 'fault')}</Status> : <Status tone="good" icon={Check}>passed</Status> },
            ]} />
          )}
        </Sheet>
      </div>
    </>
  )
}

type Install = Schemas['Install']

/** What each site would have instead of what it has. */
function Moves({ plan, error }: { plan?: Schemas['InstallPlan']; error: Error | null }) {
  if (error) return <Trouble error={error} />
  if (!plan) return <Loading />
  return (
    <>
      {plan.place && <p>The code of {plan.release} is placed first.</p>}
      {plan.problems.map((p) => <p key={p} role="alert" className="text-clay">{p}</p>)}
      <ol className="list-decimal pl-5 grid gap-0.5">{plan.sites.map((s) => <li key={s.site}>{s.site} <span className="text-soft">{s.there ? `has ${s.to} already` : <>{s.from} <ArrowRight aria-label="becomes" className="inline size-3.5" /> {s.to}</>}</span></li>)}</ol>
      <p className="text-soft">Each is checked before the next; with new faults in one, those after it stay as they are.</p>
    </>
  )
}

function NewerCode({ install }: { install: Install }) {
  const starter = install.codes?.[0]?.release.split('@')[0]
  const releases = (useReleases().data ?? []).filter((r) => r.kept && r.starter === starter)
  const [to, setTo] = useState('')
  const [wanted, setWanted] = useState(false)
  const release = to || releases[0]?.ref || ''
  const plan = useInstallPlan(install.name, release, wanted && release !== '')
  const move = useInstallMove()
  const go = useNavigate()
  return (
    <Ask primary button="Newer code" onOpen={() => setWanted(true)} title={`Newer code for ${install.name}`} action="Bring it to all sites" about="All its sites come to share the code of the release, one after the other. What each was is kept as a safety copy."
      onSubmit={async () => go(`/runs/${(await move.mutateAsync({ name: install.name, to: release, mark: plan.data?.mark })).id}`)}>
      <Field label="Code of">{(id) => <Select id={id} value={release} onChange={(e) => setTo(e.target.value)}>{releases.map((r) => <option key={r.ref}>{r.ref}</option>)}</Select>}</Field>
      <Moves plan={plan.data} error={plan.error} />
    </Ask>
  )
}

function GoBack({ install }: { install: Install }) {
  const [wanted, setWanted] = useState(false)
  const plan = useInstallPlan(install.name, '', wanted)
  const move = useInstallMove()
  const go = useNavigate()
  return (
    <Ask button="Back to the code before" onOpen={() => setWanted(true)} title={`Undo the last code of ${install.name}`} action="Bring them back" about="Its sites share again what they had before, with content and database as they stood then."
      onSubmit={async () => go(`/runs/${(await move.mutateAsync({ name: install.name, to: '', mark: plan.data?.mark })).id}`)}>
      <Moves plan={plan.data} error={plan.error} />
    </Ask>
  )
}

function Remove({ install }: { install: Install }) {
  const remove = useRemoveInstall()
  const go = useNavigate()
  return (
    <Ask button="Remove" title={`Remove install ${install.name}`} action="Remove its code" about="Its code is taken off the host. No site may share it any more."
      onSubmit={async () => { await remove.mutateAsync(install.name); go('/hosts') }} />
  )
}
