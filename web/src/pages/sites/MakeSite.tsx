import { plural, t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { Check, X } from 'lucide-react'
import { useEffect, useState } from 'react'
import { useNavigate, useSearchParams } from 'react-router'
import type { Plan, Schemas } from '../../api/client'
import { useClient, useClientPage, useHosts, useKinds, usePlan, useProvision, useReleases, useSitePage, useStarters } from '../../api/hooks'
import { useAskBeforeClosing, useDraft, useHeld } from '../../lib/drafts'
import { count, millis, size } from '../../lib/format'
import { said } from '../../lib/said'
import { usual } from '../../lib/usual'
import { Button } from '../../parts/Button'
import { Field, Input, Select, Tick } from '../../parts/Field'
import { Head } from '../../parts/Head'
import { To } from '../../parts/Links'
import { Listed } from '../../parts/Listed'
import { Empty, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { Status } from '../../parts/Status'
import { shownValue, ValueInput } from '../clients/ValueField'
import { CodeChoice } from './CodeChoice'
import { useUsualHost } from './usualHost'

/** Waits until a value has rested for a moment: a plan is made when typing pauses. */
function useRested<T>(value: T, ms = 250): T {
  const [rested, set] = useState(value)
  useEffect(() => {
    const timer = setTimeout(() => set(value), ms)
    return () => clearTimeout(timer)
  }, [value, ms])
  return rested
}

const nothing = {
  client: '', from: '', host: '', install: '', name: '', address: '', visible: false, hold: false, mail: false, mailAddresses: false, mend: false,
  replace: false, keep: [] as string[], set: {} as Record<string, string>,
}

type Choice = typeof nothing

const noSecrets: Record<string, string> = {}

/** Choices on the left, the plan on the right, changing as they are made. What was chosen is there again when one comes back. */
export function MakeSite() {
  const [query] = useSearchParams()
  const asked = { client: query.get('client') ?? '', from: query.get('from') ?? '' }
  const [kept, setChoice, draft] = useDraft<Choice>('make a site', nothing)
  const choice = { ...kept, client: kept.client || asked.client, from: kept.from || asked.from }
  const [secrets, setSecrets] = useHeld('secrets of a site to make', noSecrets)
  useAskBeforeClosing(Object.values(secrets).some(Boolean))
  const pick = (part: Partial<Choice>) => setChoice((c) => ({ ...c, ...part }))
  // A link to this page for another client or release begins anew.
  useEffect(() => {
    if ((asked.client && kept.client && asked.client !== kept.client) || (asked.from && kept.from && asked.from !== kept.from)) {
      setChoice({ ...nothing, ...asked })
      setSecrets(noSecrets)
    }
  }, [query])

  const clients = useClientPage({ limit: 100 }).data?.clients ?? []
  const hosts = useHosts().data ?? []
  const releases = useReleases().data ?? []
  const starters = useStarters().data ?? []
  const kinds = useKinds().data ?? []
  const client = choice.client || clients[0]?.name || ''
  const from = choice.from || usual(releases)
  const usualHost = useUsualHost()
  const host = choice.host || usualHost
  const name = choice.name || client
  const standing = useSitePage({ find: name, limit: 20 }, name !== '').data?.sites.some((s) => s.name === name) ?? false
  const parts = kinds.find((k) => k.name === starters.find((s) => s.name === from.split('@')[0])?.kind)?.keep ?? []
  const set = { ...choice.set, ...secrets }
  const wanted: Schemas['NewSite'] | null = client && from && host ? {
    client, from: choice.install ? '' : from, host: choice.install ? '' : host, tenant_of: choice.install || undefined, name: choice.name || undefined,
    address: choice.address || undefined, visible: choice.visible, hold: choice.hold, mail: choice.mail, mail_addresses: choice.mailAddresses, mend: choice.mend,
    replace: choice.replace && standing, keep: choice.replace && standing ? choice.keep : undefined, set,
  } : null
  const key = useRested(JSON.stringify(wanted))
  const plan = usePlan(JSON.parse(key) as Schemas['NewSite'] | null)
  const provision = useProvision()
  const go = useNavigate()
  const settled = key === JSON.stringify(wanted) && !plan.isPlaceholderData && !plan.isFetching
  const make = async () => {
    const run = await provision.mutateAsync({ ...wanted!, plan: plan.data!.mark })
    draft.drop()
    setSecrets(noSecrets)
    void go(`/runs/${run.id}`)
  }
  const lacks = [hosts.length === 0 && [t`a host`, '/hosts'], releases.length === 0 && [t`a release`, '/starters'], clients.length === 0 && [t`a client`, '/clients']]
    .filter((x): x is [string, string] => x !== false)
  return (
    <>
      <Head title={t`Make a site`} crumbs={[{ to: '/sites', label: t`Sites` }]}>
        {draft.kept && <Button onClick={() => { draft.drop(); setSecrets(noSecrets) }}><Trans>Start over</Trans></Button>}
        <Button primary disabled={!settled || !plan.data?.ready || !!plan.error || provision.isPending} onClick={() => void make().catch(() => {})}>
          {choice.replace && standing ? t`Replace this site` : t`Make this site`}
        </Button>
      </Head>
      {lacks.length > 0 && (
        <Sheet className="mb-4"><Empty><p className="pt-3"><Trans>It takes <Listed of={lacks.map(([what, to]) => <To key={to} to={to}>{what}</To>)} /> first.</Trans></p></Empty></Sheet>
      )}
      <div className="grid lg:grid-cols-[minmax(0,430px)_minmax(0,1fr)] gap-6 items-start">
        <form className="grid gap-4" onSubmit={(e) => e.preventDefault()}>
          <fieldset className="grid grid-cols-2 gap-3">
            <ClientChoice value={client} clients={clients} onPick={(c) => { pick({ client: c, name: '', address: '', set: {} }); setSecrets(noSecrets) }} />
            <Field label={t`From release`} name="from">{(id) => (
              <Select id={id} value={from} disabled={!!choice.install} onChange={(e) => pick({ from: e.target.value })}>
                {releases.filter((r) => r.kept).map((r) => <option key={r.ref} value={r.ref}>{r.ref} · {size(r.archive_bytes)}</option>)}
              </Select>
            )}</Field>
          </fieldset>
          <fieldset className="grid gap-3">
            <legend className="font-bold text-[1.05rem] mb-1"><Trans>Where</Trans></legend>
            <div className="grid grid-cols-2 gap-3">
              <Field label={t`Host`} name="host">{(id) => (
                <Select id={id} value={host} disabled={!!choice.install} onChange={(e) => pick({ host: e.target.value })}>{hosts.map((h) => <option key={h.name}>{h.name}</option>)}</Select>
              )}</Field>
              <Field label={t`Name`} name="name">{(id) => (
                <Input id={id} className="font-mono" value={choice.name} placeholder={plan.data?.name ?? client} onChange={(e) => pick({ name: e.target.value })} />
              )}</Field>
            </div>
            <Field label={t`Address`} name="address" hint={t`by the host’s pattern unless given`}>{(id, by) => (
              <Input id={id} aria-describedby={by} className="font-mono" value={choice.address} placeholder={plan.data?.address} onChange={(e) => pick({ address: e.target.value })} />
            )}</Field>
            <CodeChoice value={choice.install} onPick={(install) => pick({ install })} />
          </fieldset>
          <fieldset className="grid gap-1.5">
            <legend className="font-bold text-[1.05rem] mb-1"><Trans>Who sees it</Trans></legend>
            <Tick checked={choice.hold} onChange={(e) => pick({ hold: e.target.checked })}><Trans>Keep visitors out until it is opened</Trans></Tick>
            <Tick checked={choice.visible} onChange={(e) => pick({ visible: e.target.checked })}><Trans>Let search engines in</Trans></Tick>
            {(!choice.visible || choice.hold) && <Tick checked={choice.mail} onChange={(e) => pick({ mail: e.target.checked })}><Trans>Let its mail go out, though it is a preview</Trans></Tick>}
          </fieldset>
          <fieldset className="grid gap-1.5">
            <legend className="font-bold text-[1.05rem] mb-1"><Trans>Other changes</Trans></legend>
            <Tick checked={choice.mailAddresses} onChange={(e) => pick({ mailAddresses: e.target.checked })}><Trans>Change mail addresses at the old host too</Trans></Tick>
            <Tick checked={choice.mend} onChange={(e) => pick({ mend: e.target.checked })}><Trans>Mend serialised values that are broken in the source</Trans></Tick>
          </fieldset>
          {standing && <Replacing choice={choice} parts={parts} onPick={pick} />}
          {plan.data && (
            <fieldset>
              <legend className="font-bold text-[1.05rem] mb-1"><Trans>Settings of this client</Trans></legend>
              <Values plan={plan.data} client={choice.client} set={set} onSet={(k, v, secret) => {
                const put = (all: Record<string, string>) => { const next = { ...all, [k]: v }; if (!v) delete next[k]; return next }
                if (secret) setSecrets(put)
                else setChoice((c) => ({ ...c, set: put(c.set) }))
              }} />
            </fieldset>
          )}
        </form>
        <WorkOrder plan={plan.data} error={plan.error} problem={provision.error} />
      </div>
    </>
  )
}

/** One of the first clients, or one that is found by a part of its name. */
function ClientChoice({ value, clients, onPick }: { value: string; clients: Schemas['ClientRow'][]; onPick: (client: string) => void }) {
  const [typed, type] = useState('')
  const found = useClientPage({ find: typed, limit: 30 }, typed !== '').data?.clients
  const chosen = useClient(value)
  const many = clients.length >= 100
  const listed = typed ? (found ?? []) : clients
  return (
    <Field label={t`Client`} name="client">{(id) => (
      <div className="grid gap-1">
        {many && <Input aria-label={t`Find a client`} placeholder={t`find by name`} value={typed} onChange={(e) => type(e.target.value)} />}
        <Select id={id} value={value} onChange={(e) => onPick(e.target.value)}>
          {!listed.some((c) => c.name === value) && value && <option value={value}>{chosen.data?.settings.title?.value || value}</option>}
          {listed.map((c) => <option key={c.name} value={c.name}>{c.title || c.name}</option>)}
        </Select>
      </div>
    )}</Field>
  )
}

/** What happens to the site of this name that is there already. */
function Replacing({ choice, parts, onPick }: { choice: Choice; parts: Schemas['Part'][]; onPick: (part: Partial<Choice>) => void }) {
  return (
    <fieldset className="border border-line-strong rounded-md px-3 py-2 grid gap-1.5">
      <legend className="px-1 font-bold"><Trans>A site of this name is there</Trans></legend>
      <Tick checked={choice.replace} onChange={(e) => onPick({ replace: e.target.checked })}><Trans>Replace it; it is kept as a safety copy</Trans></Tick>
      {choice.replace && (
        <>
          <p className="text-soft"><Trans>Take over from it:</Trans></p>
          {parts.map((p) => (
            <Tick key={p.what} className="pl-4" checked={choice.keep.includes(p.what)}
              onChange={(e) => onPick({ keep: e.target.checked ? [...choice.keep, p.what] : choice.keep.filter((k) => k !== p.what) })}>{p.title}</Tick>
          ))}
        </>
      )}
    </fieldset>
  )
}

/** Where the old address and folder stand in what will be placed: counts, and a few of the places. */
function Places({ plan }: { plan: Plan }) {
  const counts = plan.counts ?? []
  if (counts.length === 0) return null
  return (
    <details className="border-t border-line pt-2 mt-2">
      <summary><b>{plural(counts.reduce((n, c) => n + c.places, 0), { one: '# place', other: '# places' })}</b> <span className="text-soft"><Trans>name the old address or folder and will be replaced</Trans></span></summary>
      <ul className="grid sm:grid-cols-2 gap-x-4 py-1.5">{counts.map((c) => <li key={c.where} className="flex justify-between gap-2"><span className="font-mono truncate">{c.where}</span><span className="font-mono">{count(c.places)}</span></li>)}</ul>
      {(plan.samples ?? []).slice(0, 4).map((s) => <p key={s.where + s.text} className="font-mono text-[0.9rem] text-soft break-all">{s.where}: {s.text}</p>)}
    </details>
  )
}

/** The fields the starter asks for, those that lack something first; what is left empty comes from the client or the release. */
function Values({ plan, client, set, onSet }: { plan: Plan; client: string; set: Record<string, string>; onSet: (key: string, value: string, secret: boolean) => void }) {
  return (
    <div className="grid sm:grid-cols-2 gap-3">
      {plan.fields.map((f) => {
        const v = plan.values.find((x) => x.key === f.key)
        const fault = v?.problem ? (f.example && v.problem === 'is missing' ? t`${v.problem}; like ${f.example}` : v.problem) : undefined
        const secret = f.secret ?? false
        return (
          <Field key={f.key} label={f.label} name={f.key} fault={fault} hint={v?.origin && (v.origin === 'given' ? t`for this site alone` : t`from the ${v.origin}`)}>
            {(id, by) => (
              <ValueInput id={id} by={by} fault={!!fault} client={client} field={f} value={set[f.key] ?? ''} placeholder={shownValue(v?.value ?? '')}
                onValue={(value) => onSet(f.key, value, secret)} />
            )}
          </Field>
        )
      })}
    </div>
  )
}

/** The plan as a work order: what is missing first, then numbered steps, then that nothing has been touched. */
function WorkOrder({ plan, error, problem }: { plan?: Plan; error: Error | null; problem: Error | null }) {
  return (
    <Sheet className="px-5 pb-4 lg:sticky lg:top-4">
      <div className="flex flex-wrap items-center gap-x-3 pt-3.5 pb-2.5">
        <h2 className="font-bold text-[1.1rem]"><Trans>Plan</Trans></h2>
        {plan && !error && (plan.ready ? <Status tone="good" icon={Check}><Trans>ready</Trans></Status> : <Status tone="wrong" icon={X}>{plan.missing.length > 0 ? t`${plural(plan.missing.length, { one: '# value', other: '# values' })} missing` : t`not possible like this`}</Status>)}
        {plan && <span className="ml-auto text-soft"><Trans>nothing has been touched · about <b className="text-ink">{millis(plan.expected_ms)}</b>, checks included</Trans></span>}
      </div>
      <Trouble error={problem} />
      <Trouble error={error} />
      {plan && !error && (
        <>
          {plan.problems.map((p) => <p key={p} role="alert" className="text-clay py-1.5 border-t border-line break-words">{p}</p>)}
          {plan.missing.length > 0 && <p className="text-clay py-1.5 border-t border-line"><Trans>Missing: {plan.missing.map((k) => plan.fields.find((f) => f.key === k)?.label ?? k).join(', ')}</Trans></p>}
          <ol aria-label={t`Steps`}>
            {plan.steps.map((s, i) => (
              <li key={s.title} className="grid grid-cols-[2rem_1fr_auto] py-2 border-t border-line">
                <span className="text-faint font-mono">{i + 1}</span>
                <div className="min-w-0"><p className="font-bold">{said(s.title)}</p><p className="text-soft break-words">{s.detail}</p></div>
                <span className="font-mono whitespace-nowrap pl-4">{s.amount && amount(s.amount)}{s.title === 'Place files' && ` · ${size(plan.bytes)}`}</span>
              </li>
            ))}
          </ol>
          <Places plan={plan} />
          {plan.without?.map((w) => <p key={w}><Trans>Will be without {w}</Trans></p>)}
          <p className="text-soft border-t border-line pt-2 mt-2"><Trans>Will be generated: {plan.generated.join(', ')}.</Trans></p>
        </>
      )}
      <p className="text-soft border-t border-line-strong mt-3 pt-3"><Trans>Any step fails: all of it is undone.</Trans></p>
    </Sheet>
  )
}

const amount = (s: string) => s.replace(/^\d+/, (n) => count(Number(n)))
