import { Check, X } from 'lucide-react'
import { useEffect, useState, type ReactNode } from 'react'
import { useNavigate, useSearchParams } from 'react-router'
import type { Plan, Schemas } from '../../api/client'
import { useClients, useHosts, useKinds, usePlan, useProvision, useReleases, useSites, useStarters } from '../../api/hooks'
import { Button, Field, Head, Input, Select, Sheet, Status, Trouble } from '../../parts/basics'
import { count, millis, plural, size } from '../../parts/format'
import { usual } from '../../parts/usual'
import { CodeChoice } from './CodeChoice'

/** Waits until a value has rested for a moment: a plan is made when typing pauses. */
function useRested<T>(value: T, ms = 250): T {
  const [rested, set] = useState(value)
  useEffect(() => {
    const t = setTimeout(() => set(value), ms)
    return () => clearTimeout(t)
  }, [value, ms])
  return rested
}

/** Choices on the left, the plan on the right, changing as they are made. */
export function MakeSite() {
  const [query] = useSearchParams()
  const clients = useClients().data ?? []
  const hosts = useHosts().data ?? []
  const releases = useReleases().data ?? []
  const [choice, setChoice] = useState({ client: query.get('client') ?? '', from: query.get('from') ?? '', host: '', install: '', name: '', address: '', visible: false, hold: false, mail: false, mailAddresses: false, mend: false, replace: false, keep: [] as string[] })
  const [set, setSet] = useState<Record<string, string>>({})
  const client = choice.client || clients[0]?.name || ''
  const from = choice.from || usual(releases)
  const host = choice.host || hosts[0]?.name || ''
  const sites = useSites().data ?? []
  const kinds = useKinds().data ?? []
  const standing = sites.some((s) => s.name === (choice.name || client))
  const starters = useStarters().data ?? []
  const parts = kinds.find((k) => k.name === starters.find((t) => t.name === from.split('@')[0])?.kind)?.keep ?? []
  const wanted: Schemas['NewSite'] | null = client && from && host ? { client, from: choice.install ? '' : from, host: choice.install ? '' : host, tenant_of: choice.install || undefined, name: choice.name || undefined, address: choice.address || undefined, visible: choice.visible, hold: choice.hold, mail: choice.mail, mail_addresses: choice.mailAddresses, mend: choice.mend, replace: standing && choice.replace, keep: standing && choice.replace ? choice.keep : undefined, set } : null
  const key = useRested(JSON.stringify(wanted))
  const plan = usePlan(JSON.parse(key) as Schemas['NewSite'] | null)
  const provision = useProvision()
  const go = useNavigate()
  const pick = (part: Partial<typeof choice>) => setChoice((c) => ({ ...c, ...part }))
  const settled = key === JSON.stringify(wanted) && !plan.isPlaceholderData && !plan.isFetching
  return (
    <>
      <Head title="Make a site" />
      <div className="grid grid-cols-[minmax(0,430px)_minmax(0,1fr)] gap-6 items-start">
        <form className="grid gap-3" onSubmit={(e) => e.preventDefault()}>
          <Pair>
            <Field label="Client">{(id) => <Select id={id} value={client} onChange={(e) => { pick({ client: e.target.value, name: '', address: '' }); setSet({}) }}>{clients.map((c) => <option key={c.name} value={c.name}>{c.settings.title?.value || c.name}</option>)}</Select>}</Field>
            <Field label="From release">{(id) => <Select id={id} value={from} disabled={!!choice.install} onChange={(e) => pick({ from: e.target.value })}>{releases.filter((r) => r.kept).map((r) => <option key={r.ref} value={r.ref}>{r.ref} · {size(r.archive_bytes)}</option>)}</Select>}</Field>
          </Pair>
          <Pair>
            <Field label="Host">{(id) => <Select id={id} value={host} disabled={!!choice.install} onChange={(e) => pick({ host: e.target.value })}>{hosts.map((h) => <option key={h.name}>{h.name}</option>)}</Select>}</Field>
            <Field label="Name">{(id) => <Input id={id} className="font-mono" value={choice.name} placeholder={plan.data?.name ?? client} onChange={(e) => pick({ name: e.target.value })} />}</Field>
          </Pair>
          <CodeChoice value={choice.install} onPick={(install) => pick({ install })} />
          <Field label="Address" hint="by the host's pattern unless given">{(id, by) => <Input id={id} aria-describedby={by} className="font-mono" value={choice.address} placeholder={plan.data?.address} onChange={(e) => pick({ address: e.target.value })} />}</Field>
          <label className="flex gap-2 items-center"><input type="checkbox" checked={choice.visible} onChange={(e) => pick({ visible: e.target.checked })} />Let search engines in</label>
          <label className="flex gap-2 items-center"><input type="checkbox" checked={choice.hold} onChange={(e) => pick({ hold: e.target.checked })} />Keep visitors out until it is opened</label>
          <label className="flex gap-2 items-center"><input type="checkbox" checked={choice.mailAddresses} onChange={(e) => pick({ mailAddresses: e.target.checked })} />Change mail addresses at the old host too</label>
          <label className="flex gap-2 items-center"><input type="checkbox" checked={choice.mend} onChange={(e) => pick({ mend: e.target.checked })} />Mend serialised values that are broken in the source</label>
          {(!choice.visible || choice.hold) && <label className="flex gap-2 items-center"><input type="checkbox" checked={choice.mail} onChange={(e) => pick({ mail: e.target.checked })} />Let its mail go out, though it is a preview</label>}
          {standing && <Replacing choice={choice} parts={parts} onPick={pick} />}
          <h2 className="font-bold text-[1.05rem] mt-2">Settings of this client</h2>
          {plan.data && <Values plan={plan.data} set={set} onSet={(k, v) => setSet((all) => { const next = { ...all, [k]: v }; if (!v) delete next[k]; return next })} />}
        </form>
        <WorkOrder plan={plan.data} error={plan.error} problem={provision.error}>
          <Button primary disabled={!settled || !plan.data?.ready || !!plan.error || provision.isPending}
            onClick={async () => go(`/runs/${(await provision.mutateAsync({ ...wanted!, plan: plan.data!.mark })).id}`)}>{choice.replace && standing ? 'Replace this site' : 'Make this site'}</Button>
        </WorkOrder>
      </div>
    </>
  )
}

/** What happens to the site of this name that is there already. */
function Replacing({ choice, parts, onPick }: { choice: { replace: boolean; keep: string[] }; parts: Schemas['Part'][]; onPick: (part: { replace?: boolean; keep?: string[] }) => void }) {
  return (
    <fieldset className="border border-line rounded-md px-3 py-2 grid gap-1.5">
      <label className="flex gap-2 items-center"><input type="checkbox" checked={choice.replace} onChange={(e) => onPick({ replace: e.target.checked })} />Replace the site of this name; it is kept as a safety copy</label>
      {choice.replace && (
        <>
          <p className="text-soft">Take over from it:</p>
          {parts.map((p) => (
            <label key={p.what} className="flex gap-2 items-center pl-4">
              <input type="checkbox" checked={choice.keep.includes(p.what)} onChange={(e) => onPick({ keep: e.target.checked ? [...choice.keep, p.what] : choice.keep.filter((k) => k !== p.what) })} />{p.title}
            </label>
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
      <summary className="cursor-pointer"><b>{count(counts.reduce((n, c) => n + c.places, 0))} places</b> <span className="text-soft">name the old address or folder and will be replaced</span></summary>
      <ul className="grid grid-cols-2 gap-x-4 py-1.5">{counts.map((c) => <li key={c.where} className="flex justify-between gap-2"><span className="font-mono truncate">{c.where}</span><span className="font-mono">{count(c.places)}</span></li>)}</ul>
      {(plan.samples ?? []).slice(0, 4).map((s) => <p key={s.where + s.text} className="font-mono text-[0.9rem] text-soft break-all">{s.where}: {s.text}</p>)}
    </details>
  )
}

const Pair = ({ children }: { children: ReactNode }) => <div className="grid grid-cols-2 gap-3">{children}</div>

/** The fields the starter asks for; what is left empty comes from the client or the release. */
function Values({ plan, set, onSet }: { plan: Plan; set: Record<string, string>; onSet: (key: string, value: string) => void }) {
  return (
    <div className="grid grid-cols-2 gap-3">
      {plan.fields.map((f) => {
        const v = plan.values.find((x) => x.key === f.key)
        const fault = v?.problem ? `${v.problem}${f.example && v.problem === 'is missing' ? `; like ${f.example}` : ''}` : undefined
        return (
          <Field key={f.key} label={f.label} fault={fault} hint={v?.origin && (v.origin === 'given' ? 'for this site alone' : `from the ${v.origin}`)}>
            {(id, by) => f.choices?.length ? (
              <Select id={id} aria-describedby={by} value={set[f.key] ?? ''} onChange={(e) => onSet(f.key, e.target.value)}><option value="">{v?.value || 'not set'}</option>{f.choices.map((c) => <option key={c}>{c}</option>)}</Select>
            ) : (
              <Input id={id} aria-describedby={by} fault={!!fault} type={f.secret ? 'password' : 'text'} autoComplete="off" value={set[f.key] ?? ''} placeholder={v?.value || 'not set'} onChange={(e) => onSet(f.key, e.target.value)} />
            )}
          </Field>
        )
      })}
    </div>
  )
}

/** The plan as a work order: what is missing first, then numbered steps, then that nothing has been touched. */
function WorkOrder({ plan, error, problem, children }: { plan?: Plan; error: Error | null; problem: Error | null; children: ReactNode }) {
  return (
    <Sheet className="px-5 pb-4 sticky top-4">
      <div className="flex items-center gap-3 pt-3.5 pb-2.5">
        <h2 className="font-bold text-[1.1rem]">Plan</h2>
        {plan && !error && (plan.ready ? <Status tone="good" icon={Check}>ready</Status> : <Status tone="wrong" icon={X}>{plan.missing.length > 0 ? `${plural(plan.missing.length, 'value')} missing` : 'not possible like this'}</Status>)}
        {plan && <span className="ml-auto text-soft">nothing has been touched · about <b className="text-ink">{millis(plan.expected_ms)}</b></span>}
      </div>
      <Trouble error={error} />
      {plan && !error && (
        <>
          {plan.problems.map((p) => <p key={p} role="alert" className="text-clay py-1.5 border-t border-line">{p}</p>)}
          <ol aria-label="Steps">
            {plan.steps.map((s, i) => (
              <li key={s.title} className="grid grid-cols-[2rem_1fr_auto] py-2 border-t border-line">
                <span className="text-faint font-mono">{i + 1}</span>
                <div className="min-w-0"><p className="font-bold">{s.title}</p><p className="text-soft break-words">{s.detail}</p></div>
                <span className="font-mono whitespace-nowrap pl-4">{s.amount && amount(s.amount)}{s.title === 'Place files' && ` · ${size(plan.bytes)}`}</span>
              </li>
            ))}
          </ol>
          <Places plan={plan} />
          {plan.without?.map((w) => <p key={w}>Will be without {w}</p>)}
          <p className="text-soft border-t border-line pt-2 mt-2">Will be generated: {plan.generated.join(', ')}.</p>
        </>
      )}
      <Trouble error={problem} />
      <div className="flex items-center justify-between border-t border-line-strong mt-3 pt-3"><p className="text-soft">Any step fails: all of it is undone.</p>{children}</div>
    </Sheet>
  )
}

const amount = (s: string) => s.replace(/^\d+/, (n) => count(Number(n)))
