import { t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { ArrowRight } from 'lucide-react'
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
import { count, day } from '../../lib/format'
import { Checks } from '../sites/Checks'

/** Code on a host and the sites that share it; newer code comes to all of them, one after the other. */
export function InstallPage() {
  const { name = '' } = useParams()
  const install = useInstall(name)
  if (!install.data) return install.error ? <Trouble error={install.error} /> : <Loading />
  const i = install.data
  const sites = i.sites ?? []
  return (
    <>
      <Head title={i.name} crumbs={[{ to: '/hosts', label: t`Hosts` }, { to: `/hosts/${i.host}`, label: i.host }]} facts={<><Trans>Code on host {i.host} that <Plural value={sites.length} one="# site shares" other="# sites share" />; each has settings, content and a database of its own.</Trans></>}>
        <NewerCode install={i} />
        <GoBack install={i} />
        <Remove install={i} />
      </Head>
      <div className="grid gap-4">
        <Sheet title={t`Code`}>
          <Rows caption={t`Code`} rows={i.codes ?? []} by={(c) => c.release} columns={[
            { head: t`Of`, cell: (c) => <To to={`/releases/${c.release}`}>{c.release}</To> },
            { head: t`In`, grow: true, cell: (c) => <span className="font-mono break-all">{c.folder}</span> },
            { head: t`Files`, cell: (c) => <>{count(c.files)}, <Bytes of={c.bytes} /></> },
            { head: t`Sites`, cell: (c) => c.tenants },
            { head: t`Since`, cell: (c) => day(c.made_at) },
          ]} />
        </Sheet>
        <Sheet title={t`Sites`}>
          {sites.length === 0 ? <Empty><Trans>None yet. <To to="/sites/new">Make a site</To> and choose this install as its code.</Trans></Empty> : (
            <Rows caption={t`Sites`} rows={sites} by={(s) => s.site} columns={[
              { head: t`Site`, cell: (s) => <To to={`/sites/${s.site}`}>{s.site}</To> },
              { head: t`Address`, grow: true, cell: (s) => <span className="font-mono">{s.address.replace(/^https?:\/\//, '')}</span> },
              { head: t`Code of`, cell: (s) => s.release },
              { head: t`Checks`, cell: (s) => <Checks counts={s.checks} /> },
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
      {plan.place && <p><Trans>The code of {plan.release} is placed first.</Trans></p>}
      {plan.problems.map((p) => <p key={p} role="alert" className="text-clay">{p}</p>)}
      <ol className="list-decimal pl-5 grid gap-0.5">{plan.sites.map((s) => <li key={s.site}>{s.site} <span className="text-soft">{s.there ? t`has ${s.to} already` : <>{s.from} <ArrowRight aria-label={t`becomes`} className="inline size-3.5" /> {s.to}</>}</span></li>)}</ol>
      <p className="text-soft"><Trans>Each is checked before the next; with new faults in one, those after it stay as they are.</Trans></p>
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
    <Ask primary button={t`Newer code`} onOpen={() => setWanted(true)} title={t`Newer code for ${install.name}`} action={t`Bring it to all sites`} about={t`All its sites come to share the code of the release, one after the other. What each was is kept as a safety copy.`}
      onSubmit={async () => go(`/runs/${(await move.mutateAsync({ name: install.name, to: release, mark: plan.data?.mark })).id}`)}>
      <Field label={t`Code of`}>{(id) => <Select id={id} value={release} onChange={(e) => setTo(e.target.value)}>{releases.map((r) => <option key={r.ref}>{r.ref}</option>)}</Select>}</Field>
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
    <Ask button={t`Back to the code before`} onOpen={() => setWanted(true)} title={t`Undo the last code of ${install.name}`} action={t`Bring them back`} about={t`Its sites share again what they had before, with content and database as they stood then.`}
      onSubmit={async () => go(`/runs/${(await move.mutateAsync({ name: install.name, to: '', mark: plan.data?.mark })).id}`)}>
      <Moves plan={plan.data} error={plan.error} />
    </Ask>
  )
}

function Remove({ install }: { install: Install }) {
  const remove = useRemoveInstall()
  const go = useNavigate()
  return (
    <Ask button={t`Remove`} title={t`Remove install ${install.name}`} action={t`Remove its code`} about={t`Its code is taken off the host. No site may share it any more.`}
      onSubmit={async () => { await remove.mutateAsync(install.name); go('/hosts') }} />
  )
}
