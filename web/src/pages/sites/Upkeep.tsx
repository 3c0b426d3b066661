import { plural, t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import type { Site } from '../../api/client'
import { useCopyRule, useDropCopy, useHosts, useKeepCopy, useMove, useMovePlan, usePutBack, useRefresh, useRefreshPlan, useReleases, useRetire, useRotate, useUndo, useUndoPlan } from '../../api/hooks'
import { useFollow } from '../../lib/useFollow'
import { Ask, Question } from '../../parts/Dialog'
import { Field, Input, Select, TextField, Tick } from '../../parts/Field'
import { To } from '../../parts/Links'
import { Menu, MenuItem } from '../../parts/Menu'
import { Loading, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { Bytes } from '../../parts/SizeBar'
import { When } from '../../parts/When'
import { day, inRow } from '../../lib/format'

const because: Record<string, string> = { replaced: t`it was replaced`, moved: t`it moved`, asked: t`someone asked`, retired: t`it was retired` }

/** What is done with a site that stands, but for checking and opening it. */
export function MoreActs({ site }: { site: Site }) {
  return (
    <>
      <RefreshButton site={site} />
      <MoveButton site={site} />
      <Others site={site} />
    </>
  )
}

function Others({ site }: { site: Site }) {
  const go = useNavigate()
  const { follow, start } = useFollow()
  const keep = useKeepCopy()
  const retire = useRetire()
  const rotate = useRotate()
  const [act, setAct] = useState<'rotate' | 'retire' | ''>('')
  return (
    <>
      <Menu label={t`More`}>
        <MenuItem onSelect={() => start(keep.mutateAsync(site.name))}><Trans>Make a safety copy</Trans></MenuItem>
        <MenuItem onSelect={() => void go(`/sites/${site.name}/sheet`)}><Trans>Printable sheet</Trans></MenuItem>
        <MenuItem onSelect={() => setAct('rotate')}><Trans>New credentials…</Trans></MenuItem>
        <MenuItem danger onSelect={() => setAct('retire')}><Trans>Retire…</Trans></MenuItem>
      </Menu>
      <Trouble error={keep.error} />
      <Question open={act === 'rotate'} onLeave={() => setAct('')} title={t`New credentials for ${site.name}`} action={t`Change them`} onSubmit={() => follow(rotate.mutateAsync(site.name))}
        about={t`Its database gets a new user and password, and ${site.admin} a new password. Visitors notice nothing; whoever logs in needs the new one.`} />
      <Question danger open={act === 'retire'} onLeave={() => setAct('')} title={t`Retire ${site.name}`} action={t`Retire it`} onSubmit={() => follow(retire.mutateAsync(site.name))}
        about={t`A last safety copy is made. Then folder, database, database user and credentials are removed. The record stays, and the copy can be put back.`} />
    </>
  )
}

/** What has happened to the site, and how to go back. */
export function History({ site }: { site: Site }) {
  const { follow } = useFollow()
  const putBack = usePutBack()
  const drop = useDropCopy()
  return (
    <Sheet title={t`History`} aside={site.copies.length > 0 && plural(site.copies.length, { one: '# safety copy', other: '# safety copies' })}>
      <ul aria-label={t`Safety copies`}>
        <li className="px-4 py-1.5 border-t border-line flex items-center gap-3">
          <div className="min-w-0 flex-1"><p><Trans><b>Now</b>, made <When at={site.made_at} /> from <To to={`/releases/${site.release}`}>{site.release}</To></Trans></p></div>
          {!site.retired_at && <UndoButton site={site} />}
        </li>
        {site.copies.map((c) => (
          <li key={c.id} className="px-4 py-1.5 border-t border-line flex flex-wrap items-center gap-x-3 gap-y-1">
            <div className="min-w-0 flex-1">
              <p><Trans><b><When at={c.made_at} /></b>, because {because[c.why]}</Trans></p>
              <p className="text-soft">{c.release && <span className="mr-2"><Trans>of <To to={`/releases/${c.release}`}>{c.release}</To></Trans></span>}<Bytes of={c.bytes} />{c.host && <span className="ml-2"><Trans>on {c.host} in {c.where}</Trans></span>}</p>
              {c.serves && <p className="text-soft"><Trans>It still answers at {c.serves}, until that name leads to host {site.host}. Drop it then.</Trans></p>}
            </div>
            {c.why === 'replaced' || c.why === 'moved' ? <span className="text-soft"><Trans>undo brings it back</Trans></span> : (
              <Ask small button={t`Put back…`} title={t`Put back ${site.name} as of ${day(c.made_at)}`} action={t`Put it back`} onSubmit={() => follow(putBack.mutateAsync({ name: site.name, id: c.id }))}
                about={site.retired_at ? t`The site is made again at its address, with its accounts and content as they were.` : t`What stands there now is kept as a safety copy, and undo brings it back.`} />
            )}
            <Ask small danger button={t`Drop…`} title={t`Drop the safety copy of ${day(c.made_at)}`} action={t`Drop it`} onSubmit={() => follow(drop.mutateAsync({ name: site.name, id: c.id }))}
              about={c.serves ? t`The site on ${c.host ?? ''} is removed. Whoever is still led there by ${c.serves} finds nothing.` : t`It cannot be put back after that.`} />
          </li>
        ))}
      </ul>
      {!site.retired_at && <CopyRule site={site} />}
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
    <Ask small danger button={t`Undo…`} onLeave={() => setWanted(false)} ready={plan.data !== undefined} onOpen={() => setWanted(true)} title={t`Undo the last provisioning of ${site.name}`} action={t`Undo it`}
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
  const rule = inRow([last > 0 ? t`the last ${last}` : '', days > 0 ? t`for ${days} days` : ''].filter(Boolean)) || t`until a person drops them`
  return (
    <p className="px-4 py-2 border-t border-line text-soft"><Trans>Safety copies are kept {rule}.</Trans>{' '}
      <Ask asks="CopyRule" small button={t`Change`} title={t`Safety copies of ${site.name}`} action={t`Set the rule`} about={t`What the rule does not keep is dropped within the hour, and the run that drops it says so.`}
        onSubmit={(form) => set.mutateAsync({ name: site.name, last: Number(form.get('last')), days: Number(form.get('days')) })}>
        <TextField label={t`Keep the last`} name="last" hint={t`0 for all`} type="number" defaultValue={last} />
        <TextField label={t`Days`} name="days" hint={t`after which one is dropped; 0 for never`} type="number" defaultValue={days} />
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
    <Ask button={t`Newer code…`} ready={plan.data !== undefined && plan.data.problems.length === 0} onOpen={() => setWanted(true)} title={t`Newer code for ${site.name}`} action={t`Refresh it`} about={t`Core, extensions and themes come from the release; pages, pictures, accounts and settings stay. What the site was is kept as a safety copy.`}
      onSubmit={async () => go(`/runs/${(await refresh.mutateAsync({ name: site.name, from, mark: plan.data?.mark })).id}`)}>
      <Field label={t`Code of`}>{(id) => <Select id={id} value={from} onChange={(e) => setFrom(e.target.value)}><option value=""><Trans>the newest of {starter}</Trans></option>{releases.map((x) => <option key={x.ref}>{x.ref}</option>)}</Select>}</Field>
      <Trouble error={plan.error} />
      {plan.data?.problems.map((p) => <p key={p} role="alert" className="text-clay">{p}</p>)}
      {r ? (
        <div className="grid gap-2">
          <p>{r.version === r.new_version ? t`Version ${r.version} stays.` : t`Version ${r.version} becomes ${r.new_version}.`} {r.units.length === 0 ? t`It has this code already.` : t`${plural(r.units.length, { one: '# part', other: '# parts' })} of the code ${r.units.length === 1 ? t`differs` : t`differ`}:`}</p>
          {r.units.length > 0 && <ul className="grid gap-0.5">{r.units.slice(0, 12).map((u) => <li key={u.unit} className="flex justify-between gap-3"><span className="font-mono truncate">{u.unit}</span><span className="text-soft whitespace-nowrap">{[u.added && `${u.added} added`, u.changed && `${u.changed} changed`, u.removed && `${u.removed} removed`].filter(Boolean).join(', ')}</span></li>)}</ul>}
          {r.stays && <p className="text-soft"><Trans>Stays, as the release does not have it: <span className="font-mono">{r.stays.join(', ')}</span></Trans></p>}
          {r.edited && <p className="text-amber">{r.edited.length > 8 ? <Trans>Changed on the site by somebody, and replaced: <span className="font-mono">{inRow(r.edited.slice(0, 8))}</span> and {r.edited.length - 8} more</Trans>
            : <Trans>Changed on the site by somebody, and replaced: <span className="font-mono">{inRow(r.edited)}</span></Trans>}</p>}
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
    <Ask button={t`Move…`} ready={plan.data?.ready ?? false} onOpen={() => setWanted(true)} title={t`Move ${site.name}`} action={t`Move it`} onSubmit={async () => go(`/runs/${(await move.mutateAsync({ name: site.name, to: { ...to!, mark: plan.data?.mark } })).id}`)}>
      <Field label={t`To host`}>{(id) => <Select id={id} value={host} onChange={(e) => setChoice({ ...choice, host: e.target.value })}>{hosts.map((h) => <option key={h.name} value={h.name}>{h.name}{here(h) && t`, where it is`}</option>)}</Select>}</Field>
      <Field label={t`Address`} hint={t`by the host's pattern unless given; where it is, another one`}>{(id, by) => <Input id={id} aria-describedby={by} className="font-mono" value={choice.address} onChange={(e) => setChoice({ ...choice, address: e.target.value })} />}</Field>
      <Tick checked={choice.visible} onChange={(e) => setChoice({ ...choice, visible: e.target.checked })}><Trans>Let search engines in</Trans></Tick>
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
