import { plural, t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { Undo2 } from 'lucide-react'
import { useDeferredValue } from 'react'
import { useBlocker, useParams } from 'react-router'
import type { Schemas } from '../../api/client'
import { useEditDraft, usePacking, useSetPacking, useSource, useStarter, useTryPacking } from '../../api/hooks'
import { useAskBeforeClosing, useDraft } from '../../lib/drafts'
import { size } from '../../lib/format'
import { Button, ButtonLink } from '../../parts/Button'
import { Window } from '../../parts/Dialog'
import { Textarea } from '../../parts/Field'
import { Head } from '../../parts/Head'
import { To } from '../../parts/Links'
import { Rows } from '../../parts/Rows'
import { Loading, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { Bytes, SizeBar } from '../../parts/SizeBar'
import { Status } from '../../parts/Status'
import { When } from '../../parts/When'
import { Pencil } from 'lucide-react'
import { withField } from './fields'
import { Fields } from './Fields'
import { back, step, type Edited } from './history'
import { ListedFindings } from './ListedFindings'
import { PackedTree } from './PackedTree'

const nothing: Edited = { text: '', before: [] }

/** What goes into a starter's releases: tree, findings and text say the same, and an edit of one shows in the others. */
export function PackingPage() {
  const { name = '' } = useParams()
  const packing = usePacking(name)
  if (!packing.data) return packing.error ? <><Head title={t`Packing list`} /><Trouble error={packing.error} /></> : <Loading />
  return <Editor key={name} name={name} saved={packing.data} />
}

function Editor({ name, saved }: { name: string; saved: Schemas['Packing'] }) {
  const starter = useStarter(name).data
  const source = useSource(starter?.source ?? '', !!starter?.source)
  const [kept, setDraft, draft] = useDraft<Edited>(`packing ${name}`, nothing)
  const edited = draft.kept ? kept : { text: saved.text, before: [] }
  const changed = edited.text !== saved.text
  const tried = useTryPacking(name, useDeferredValue(changed ? edited.text : null))
  const change = useEditDraft()
  const save = useSetPacking()
  const p = (changed && tried.data) || saved
  const wrong = changed && tried.error ? tried.error : null
  const write = (text: string) => setDraft((was) => step(draft.kept ? was : edited, text))
  const edit = (e: Schemas['ListEdit']) => change.mutate({ name, text: edited.text, edit: e }, { onSuccess: (made) => write(made.text) })
  const leaving = useBlocker(changed && !save.isPending)
  useAskBeforeClosing(changed)
  const keep = () => save.mutate({ name, text: edited.text }, { onSuccess: draft.drop })
  const survey = source.data?.survey
  return (
    <>
      <Head title={t`Packing list`} plain={t`Packing list of ${name}`} crumbs={[{ to: '/starters', label: t`Starters` }, { to: `/starters/${name}`, label: name }]}
        beside={changed && <Status tone="look" icon={Pencil}><Trans><Plural value={edited.before.length || 1} one="# edit" other="# edits" /> not saved</Trans></Status>}
        facts={survey ? <span><Trans>based on the survey of <To to={`/sources/${source.data!.name}`}>{source.data!.name}</To>, <When at={survey.taken_at} /></Trans></span> : t`The source was not surveyed yet, so there are no totals.`}>
        <Button disabled={edited.before.length === 0} onClick={() => setDraft((was) => back(draft.kept ? was : edited))}><Undo2 size={14} aria-hidden /><Trans>Undo last</Trans></Button>
        <Button disabled={!changed} onClick={draft.drop}><Trans>Discard</Trans></Button>
        <Button primary disabled={!changed || !!wrong || save.isPending} onClick={keep}><Trans>Save the list</Trans></Button>
        {!changed && starter?.source && <ButtonLink to={`/starters/${name}`}><Trans>Back to the starter</Trans></ButtonLink>}
      </Head>
      <Trouble error={save.error ?? change.error} />
      {p.surveyed && <Totals now={p} saved={saved} changed={changed} />}
      <div className="grid gap-4 xl:grid-cols-[minmax(0,5fr)_minmax(0,3fr)] items-start">
        {p.surveyed ? <PackedTree starter={name} text={wrong ? saved.text : edited.text} busy={change.isPending} onEdit={edit} /> : <span />}
        <div className="grid gap-4 min-w-0">
          {survey && <ListedFindings findings={survey.findings} list={p.list} source={source.data!.name} onEdit={edit} busy={change.isPending} />}
          <Fields fields={p.list.fields ?? []} source={starter?.source ?? ''} onAdd={(f) => write(withField(edited.text, f))} />
          <Sheet title={<label htmlFor="packing-list"><Trans>As text</Trans></label>} aside={t`edits go both ways`}>
            <div className="px-4 pb-4">
              <Textarea id="packing-list" fault={!!wrong} aria-describedby={wrong ? 'packing-fault' : undefined} rows={20} spellCheck={false}
                className="font-mono text-[0.9rem] leading-normal" value={edited.text} onChange={(e) => write(e.target.value)} />
              {wrong && <Fault id="packing-fault" error={wrong} />}
            </div>
          </Sheet>
          <Problems problems={p.problems} />
        </div>
      </div>
      <Window open={leaving.state === 'blocked'} onOpenChange={() => leaving.reset?.()} title={t`The list is not saved`} about={t`Its edits are kept in this browser until you save or discard them; releases are built from the saved list.`}>
        <div className="flex flex-wrap justify-end gap-2">
          <Button onClick={() => leaving.reset?.()}><Trans>Stay here</Trans></Button>
          <Button onClick={() => leaving.proceed?.()}><Trans>Go, and keep the edits</Trans></Button>
          <Button primary disabled={!!wrong} onClick={() => save.mutate({ name, text: edited.text }, { onSuccess: () => { draft.drop(); leaving.proceed?.() } })}><Trans>Save, and go</Trans></Button>
        </div>
      </Window>
    </>
  )
}

/** What is wrong with the text, with its line when that is known. */
function Fault({ id, error }: { id: string; error: Error }) {
  const at = /\[(\d+):(\d+)\]/.exec(error.message)
  const said = error.message.split('\n')[0]!.replace(/^Packing list: /, '').replace(/\[\d+:\d+\] ?/, '')
  return <p id={id} role="alert" className="text-clay mt-1 break-words">{at ? t`Line ${at[1]!}: ${said}` : said}</p>
}

/** How much goes in and stays out, area by area; and what the edits come to. */
function Totals({ now, saved, changed }: { now: Schemas['Packing']; saved: Schemas['Packing']; changed: boolean }) {
  const total = (p: Schemas['Packing'], of: 'in' | 'out') => p[of].bytes + p[of].database_bytes
  const less = total(saved, 'in') - total(now, 'in')
  const all = Math.max(1, total(now, 'in') + total(now, 'out'))
  const rules = Object.entries(now.saved).filter(([, s]) => s.bytes + s.database_bytes > 0).sort((a, b) => b[1].bytes + b[1].database_bytes - a[1].bytes - a[1].database_bytes)
  const most = rules[0] ? rules[0][1].bytes + rules[0][1].database_bytes : 0
  return (
    <Sheet className="mb-4">
      <div className="p-4 grid md:grid-cols-[auto_minmax(0,1fr)_auto] gap-x-8 gap-y-3 items-center" aria-live="polite">
        <div><p className="text-[1.35rem] font-bold"><Bytes of={total(now, 'in')} /></p><p className="text-soft">{changed ? <Trans>goes in · was <Bytes of={total(saved, 'in')} /></Trans> : <Trans>goes in</Trans>}</p></div>
        <div>
          <div className="flex h-3.5 rounded-sm overflow-hidden gap-px bg-line" aria-hidden>
            <span className="bg-leaf" style={{ width: `${(now.in.bytes / all) * 100}%` }} /><span className="area area-database" style={{ width: `${(now.in.database_bytes / all) * 100}%` }} />
          </div>
          <p className="mt-1.5 flex flex-wrap gap-x-4 text-soft">
            <span>{plural(now.in.files, { one: '# file', other: '# files' })} <Bytes of={now.in.bytes} /></span><span><Trans>about <Plural value={now.in.rows} one="# row" other="# rows" /> <Bytes of={now.in.database_bytes} /></Trans></span>
            <span><Trans>stays out <Bytes of={total(now, 'out')} /></Trans></span>
          </p>
        </div>
        {changed && <p className="max-w-60">{less === 0 ? t`Your edits leave the size as it is.` : less > 0 ? <><Trans>Your edits save <b className="font-mono">{size(less)}</b>.</Trans></> : <><Trans>Your edits add <b className="font-mono">{size(-less)}</b>.</Trans></>}</p>}
      </div>
      {rules.length > 0 && (
        <details className="border-t border-line"><summary className="px-4 py-2 text-soft"><Trans>What each of <Plural value={rules.length} one="# rule" other="# rules" /> saves</Trans></summary>
          <Rows caption={t`What each rule saves`} rows={rules} by={([rule]) => rule} columns={[
            { head: t`Rule`, grow: true, cell: ([rule]) => <span className="font-mono break-all">{rule}</span> },
            { head: '', cell: ([, s]) => <SizeBar bytes={s.bytes + s.database_bytes} most={most} /> },
            { head: t`Saves`, right: true, cell: ([, s]) => <Bytes of={s.bytes + s.database_bytes} /> },
          ]} />
        </details>
      )}
    </Sheet>
  )
}

function Problems({ problems }: { problems: Schemas['ListProblem'][] }) {
  if (problems.length === 0) return null
  return (
    <Sheet title={t`Rules that do nothing here, or contradict`} aside={problems.length}>
      <ul className="px-4 pb-3 text-soft">{problems.map((x) => <li key={x.rule + x.why} className="break-words"><span className="font-mono">{x.rule}</span>: {x.why}</li>)}</ul>
    </Sheet>
  )
}
