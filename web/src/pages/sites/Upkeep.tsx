import { useState } from 'react'
import { useNavigate } from 'react-router'
import type { Site } from '../../api/client'
import { useCopyRule, useDropCopy, useHold, useHosts, useKeepCopy, useMove, useMovePlan, usePutBack, useRefresh, useRefreshPlan, useReleases, useRetire, useRotate, useUndo, useUndoPlan } from '../../api/hooks'
import { Ask } from '../../parts/Dialog'
import { Button, Bytes, Empty, Field, Input, Loading, Out, Select, Sheet, To, Trouble } from '../../parts/basics'
import { day, plural } from '../../parts/format'

const because: Record<string, string> = { replaced: 'it was replaced', moved: 'it moved', asked: 'someone asked', retired: 'it was retired' }

/** What can be done with a site that stands, and the copies of it that there are. */
export function Upkeep({ site }: { site: Site }) {
  const go = useNavigate()
  const keep = useKeepCopy()
  const putBack = usePutBack()
  const drop = useDropCopy()
  const retire = useRetire()
  const rotate = useRotate()
  const follow = async (run: Promise<{ id: number }>) => go(`/runs/${(await run).id}`)
  return (
    <Sheet title="Upkeep" aside={site.copies.length > 0 && `${site.copies.length} safety ${site.copies.length === 1 ? 'copy' : 'copies'}`}>
      <Trouble error={keep.error} />
      {!site.retired_at && (
        <div className="px-4 pb-3 flex flex-wrap gap-2">
          <Button small onClick={() => follow(keep.mutateAsync(site.name))}>Make a safety copy</Button>
          <UndoButton site={site} />
          <RefreshButton site={site} />
          <MoveButton site={site} />
          <Ask small button="New credentials" title={`New credentials for ${site.name}`} action="Change them" onSubmit={() => follow(rotate.mutateAsync(site.name))}
            about={`Its database gets a new user and password, and ${site.admin} a new password. Visitors notice nothing; whoever logs in needs the new one.`} />
          <Ask small button="Retire" title={`Retire ${site.name}`} action="Retire it" onSubmit={() => follow(retire.mutateAsync(site.name))}
            about="A last safety copy is made. Then folder, database, database user and credentials are removed. The record stays, and the copy can be put back." />
        </div>
      )}
      {!site.retired_at && <CopyRule site={site} />}
      {site.copies.length === 0 ? <Empty>No safety copies.</Empty> : (
        <ul aria-label="Safety copies" className="pb-2">
          {site.copies.map((c) => (
            <li key={c.id} className="px-4 py-1.5 border-t border-line flex items-center gap-3">
              <div className="min-w-0 flex-1">
                <p><b>{day(c.made_at)}</b>, because {because[c.why]}</p>
                <p className="text-soft">{c.release && <>of <To to={`/releases/${c.release}`}>{c.release}</To>, </>}<Bytes of={c.bytes} />{c.host && <>, on {c.host} in {c.where}</>}</p>
                {c.serves && <p className="text-soft">It still answers at {c.serves}, until that name leads to host {site.host}. Drop it then.</p>}
              </div>
              {c.why === 'replaced' || c.why === 'moved' ? <span className="text-soft">undo brings it back</span> : (
                <Ask small button="Put back" title={`Put back ${site.name} as of ${day(c.made_at)}`} action="Put it back" onSubmit={() => follow(putBack.mutateAsync({ name: site.name, id: c.id }))}
                  about={site.retired_at ? 'The site is made again at its address, with its accounts and content as they were.' : 'What stands there now is kept as a safety copy, and undo brings it back.'} />
              )}
              <Ask small button="Drop" title="Drop this safety copy" action="Drop it" about={c.serves ? `The site on ${c.host} is removed. Whoever is still led there by ${c.serves} finds nothing.` : 'It cannot be put back after that.'} onSubmit={() => drop.mutateAsync({ name: site.name, id: c.id })} />
            </li>
          ))}
        </ul>
      )}
    </Sheet>
  )
}

/** Says what undoing would do before it is done. */
function UndoButton({ site }: { site: Site }) {
  const go = useNavigate()
  const undo = useUndo()
  const [wanted, setWanted] = useState(false)
  const plan = useUndoPlan(site.name, wanted)
  return (
    <Ask small button="Undo" onOpen={() => setWanted(true)} title={`Undo the last provisioning of ${site.name}`} action="Undo it"
      onSubmit={async () => go(`/runs/${(await undo.mutateAsync({ name: site.name, mark: plan.data!.mark })).id}`)}>
      <Trouble error={plan.error} />
      {plan.data ? <ul className="list-disc pl-5 grid gap-1">{plan.data.sentences.map((s) => <li key={s} className="break-words">{s}</li>)}</ul> : <Loading />}
    </Ask>
  )
}

/** Which safety copies are kept. */
function CopyRule({ site }: { site: Site }) {
  const set = useCopyRule()
  const { last, days } = site.copy_rule
  const rule = [last > 0 && `the last ${last}`, days > 0 && `for ${days} days`].filter(Boolean).join(', ') || 'until a person drops them'
  return (
    <p className="px-4 pb-2 text-soft">Safety copies are kept {rule}.{' '}
      <Ask small button="Change" title={`Safety copies of ${site.name}`} action="Set the rule" about="What the rule does not keep is dropped within the hour, and the run that drops it says so."
        onSubmit={(form) => set.mutateAsync({ name: site.name, last: Number(form.get('last')), days: Number(form.get('days')) })}>
        <Field label="Keep the last" hint="0 for all">{(id, by) => <Input id={id} aria-describedby={by} name="last" type="number" min={0} defaultValue={last} />}</Field>
        <Field label="Days" hint="after which one is dropped; 0 for never">{(id, by) => <Input id={id} aria-describedby={by} name="days" type="number" min={0} defaultValue={days} />}</Field>
      </Ask>
    </p>
  )
}

/** What of the code would change, before it does; the content stays. */
function RefreshButton({ site }: { site: Site }) {
  const go = useNavigate()
  const refresh = useRefresh()
  const starter = site.release.split('@')[0]
  const releases = (useReleases(starter).data ?? []).filter((r) => !r.discarded_at)
  const [from, setFrom] = useState('')
  const [wanted, setWanted] = useState(false)
  const plan = useRefreshPlan(site.name, from, wanted)
  const r = plan.data?.refresh
  return (
    <Ask small button="Refresh" onOpen={() => setWanted(true)} title={`Newer code for ${site.name}`} action="Refresh it" about="Core, extensions and themes come from the release; pages, pictures, accounts and settings stay. What the site was is kept as a safety copy."
      onSubmit={async () => go(`/runs/${(await refresh.mutateAsync({ name: site.name, from, mark: plan.data?.mark })).id}`)}>
      <Field label="Code of">{(id) => <Select id={id} value={from} onChange={(e) => setFrom(e.target.value)}><option value="">the newest of {starter}</option>{releases.map((x) => <option key={x.ref}>{x.ref}</option>)}</Select>}</Field>
      <Trouble error={plan.error} />
      {plan.data?.problems.map((p) => <p key={p} role="alert" className="text-clay">{p}</p>)}
      {r ? (
        <div className="grid gap-2">
          <p>{r.version === r.new_version ? `Version ${r.version} stays.` : `Version ${r.version} becomes ${r.new_version}.`} {r.units.length === 0 ? 'It has this code already.' : `${plural(r.units.length, 'part')} of the code ${r.units.length === 1 ? 'differs' : 'differ'}:`}</p>
          {r.units.length > 0 && <ul className="grid gap-0.5">{r.units.slice(0, 12).map((u) => <li key={u.unit} className="flex justify-between gap-3"><span className="font-mono truncate">{u.unit}</span><span className="text-soft whitespace-nowrap">{[u.added && `${u.added} added`, u.changed && `${u.changed} changed`, u.removed && `${u.removed} removed`].filter(Boolean).join(', ')}</span></li>)}</ul>}
          {r.stays && <p className="text-soft">Stays, as the release does not have it: <span className="font-mono">{r.stays.join(', ')}</span></p>}
          {r.edited && <p className="text-amber">Changed on the site by somebody, and replaced: <span className="font-mono">{r.edited.slice(0, 8).join(', ')}{r.edited.length > 8 && ` and ${r.edited.length - 8} more`}</span></p>}
        </div>
      ) : !plan.error && <Loading />}
    </Ask>
  )
}

/** Where to, and what moving there would do, changing as it is chosen. */
function MoveButton({ site }: { site: Site }) {
  const go = useNavigate()
  const move = useMove()
  const here = (h: { name: string }) => h.name === site.host
  const hosts = [...(useHosts().data ?? [])].sort((a, b) => Number(here(a)) - Number(here(b)))
  const [choice, setChoice] = useState({ host: '', address: '', visible: site.visible })
  const host = choice.host || hosts[0]?.name || ''
  const [wanted, setWanted] = useState(false)
  const to = host && wanted ? { host, address: choice.address || undefined, visible: choice.visible } : null
  const plan = useMovePlan(site.name, to)
  if (hosts.length === 0) return null
  return (
    <Ask small button="Move" onOpen={() => setWanted(true)} title={`Move ${site.name}`} action="Move it" onSubmit={async () => go(`/runs/${(await move.mutateAsync({ name: site.name, to: { ...to!, mark: plan.data?.mark } })).id}`)}>
      <Field label="To host">{(id) => <Select id={id} value={host} onChange={(e) => setChoice({ ...choice, host: e.target.value })}>{hosts.map((h) => <option key={h.name} value={h.name}>{h.name}{here(h) && ', where it is'}</option>)}</Select>}</Field>
      <Field label="Address" hint="by the host's pattern unless given; where it is, another one">{(id, by) => <Input id={id} aria-describedby={by} className="font-mono" value={choice.address} onChange={(e) => setChoice({ ...choice, address: e.target.value })} />}</Field>
      <label className="flex gap-2 items-center"><input type="checkbox" checked={choice.visible} onChange={(e) => setChoice({ ...choice, visible: e.target.checked })} />Let search engines in</label>
      <Trouble error={plan.error} />
      {plan.data && !plan.error && (
        <>
          <ol className="list-decimal pl-5 grid gap-1">{plan.data.sentences.map((s) => <li key={s} className="break-words">{s}</li>)}</ol>
          {plan.data.problems.map((p) => <p key={p} role="alert" className="text-clay">{p}</p>)}
        </>
      )}
    </Ask>
  )
}

/** Who sees the site: everybody, or whoever has the link. */
export function HeldLine({ site }: { site: Site }) {
  const hold = useHold()
  const [preview, setPreview] = useState('')
  const set = async (held: boolean, visible?: boolean) => setPreview((await hold.mutateAsync({ name: site.name, held, visible })).preview ?? '')
  return (
    <>
      <dt className="text-soft">Visitors</dt>
      <dd className="flex flex-wrap gap-2 items-center">
        {site.held ? 'see a holding page' : 'see the site'}
        {site.held && <Button small onClick={() => set(true)}>Show the preview link</Button>}
        <Button small onClick={() => set(!site.held)}>{site.held ? 'Open it' : 'Hold it'}</Button>
        {!(site.visible && !site.quiet) && (
          <Ask small button="Go live" title={`${site.name} goes live`} action="Go live" about="Visitors and search engines are let in, and its mail goes out." onSubmit={() => set(false, true)} />
        )}
        <Trouble error={hold.error} />
        {site.held && preview && <span className="block w-full break-all"><Out href={preview} /></span>}
      </dd>
    </>
  )
}
