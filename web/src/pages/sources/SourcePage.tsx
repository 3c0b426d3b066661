import { useNavigate, useParams } from 'react-router'
import type { Schemas } from '../../api/client'
import {
  useChangeSource, useCheckSource, useRemoveSource, useSource, useStarters, useUnacceptFinding,
} from '../../api/hooks'
import { count, day, millis, plural } from '../../lib/format'
import { useFollow } from '../../lib/useFollow'
import { Areas } from '../../parts/Areas'
import { Button } from '../../parts/Button'
import { Ask, text } from '../../parts/Dialog'
import { TextField } from '../../parts/Field'
import { Head } from '../../parts/Head'
import { Out, To } from '../../parts/Links'
import { Rows } from '../../parts/Rows'
import { Empty, Loading, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { Bytes, SizeBar } from '../../parts/SizeBar'
import { Result } from '../../parts/Status'
import { AcceptButton } from '../today/Today'
import { more, MoreOfSource } from './AddSource'
import { CreateStarter } from './CreateStarter'
import { Remedy } from './Remedy'
import { StartSurvey } from './StartSurvey'

export function SourcePage() {
  const { name = '' } = useParams()
  const source = useSource(name)
  const starters = (useStarters().data ?? []).filter((t) => t.source === name)
  const check = useCheckSource()
  const { start } = useFollow()
  if (source.isPending) return <Loading />
  if (!source.data) return <><Head title={name} /><Trouble error={source.error} /></>
  const s = source.data
  const v = s.survey
  return (
    <>
      <Head title={s.name} crumbs={[{ to: '/sources', label: 'Sources' }]} facts={<><span>{v?.kind_title ?? s.kind} <b>{s.version}</b></span><Out href={s.address} /><span>on <To to={`/hosts/${s.host}`}>{s.host}</To> in <span className="font-mono">{s.path}</span></span>
        {s.sub_site && <span>the sub-site <b>{s.sub_site}</b> of a network</span>}{s.network && <span>a network of sites</span>}
        {v && <>{v.runtime && <span>needs PHP <b>{v.runtime}</b></span>}<span>{v.database.engine ? <>{v.database.engine} <b>{v.database.number}</b></> : 'no database'}</span>{v.prefix && <span>prefix <span className="font-mono">{v.prefix}</span></span>}{v.also?.length ? <span>also known as <span className="font-mono">{v.also.join(', ')}</span></span> : null}</>}
        {starters.length > 0 && <span>starters {starters.map((t, i) => <span key={t.name}>{i > 0 && ', '}<To to={`/starters/${t.name}`}>{t.name}</To></span>)}</span>}</>}>
        <RemoveSource name={name} />
        <ChangeSource source={s} />
        <Button disabled={check.isPending} onClick={() => start(check.mutateAsync(name))}>Check its pages</Button>
        <StartSurvey source={name} again={!!v} primary={!v} />
        {v && <CreateStarter source={name} />}
      </Head>
      <Trouble error={check.error} />
      {!v ? <Sheet><Empty>Not surveyed yet. A survey reads it once and says what is there.</Empty></Sheet> : <SurveySheets v={v} source={s} />}
    </>
  )
}

function RemoveSource({ name }: { name: string }) {
  const remove = useRemoveSource()
  const go = useNavigate()
  return (
    <Ask danger button="Remove…" title={`Remove source ${name}`} action="Remove it" about="It is forgotten here, with its surveys. The site itself is not touched. A source that a starter is built from stays."
      onSubmit={async () => { await remove.mutateAsync(name); void go('/sources') }} />
  )
}

function ChangeSource({ source }: { source: Schemas['Source'] }) {
  const change = useChangeSource()
  return (
    <Ask asks="ChangedSource" button="Change…" title={`Change ${source.name}`} about="It is read at once where you say, and nothing is changed unless a site of the same kind is there." action="Change"
      onSubmit={(f) => change.mutateAsync({ name: source.name, path: text(f, 'path'), ...more(f) })}>
      <TextField label="Web root" name="path" hint="its folder, below the host’s files" required defaultValue={source.path} mono />
      <MoreOfSource />
    </Ask>
  )
}

function SurveySheets({ v, source }: { v: Schemas['Survey']; source: Schemas['Source'] }) {
  const folders = v.folders.slice(0, 14)
  const tables = [...(v.tables ?? [])].sort((a, b) => b.data_bytes - a.data_bytes)
  const mostTable = Math.max(0, ...tables.map((t) => t.data_bytes))
  return (
    <div className="grid gap-4">
      <Sheet className="p-4 grid md:grid-cols-[auto_1fr] gap-6 items-center">
        <div><p className="text-[1.35rem] font-bold"><Bytes of={v.totals.bytes + v.totals.database_bytes} /></p><p className="text-soft">{count(v.totals.files)} files, {count(v.totals.folders)} folders, {v.totals.tables} tables; read {day(v.taken_at)} in {millis(v.took_ms)}</p></div>
        <Areas areas={[...v.areas, { area: 'database', bytes: v.totals.database_bytes }]} />
      </Sheet>
      <SubSites v={v} />
      <Findings findings={v.findings} source={source} />
      <div className="grid lg:grid-cols-2 gap-4 items-start">
        <Sheet title="Largest folders">
          <Rows caption="Largest folders" rows={folders} by={(f) => f.path} columns={[
            { head: 'Folder', grow: true, cell: (f) => <span className="font-mono">{f.path}</span> },
            { head: 'Files', right: true, cell: (f) => count(f.files) },
            { head: '', cell: (f) => <SizeBar bytes={f.bytes} most={folders[0]?.bytes ?? 0} area={f.area} /> },
            { head: 'Size', right: true, cell: (f) => <Bytes of={f.bytes} /> },
          ]} />
        </Sheet>
        <Sheet title="Tables" aside="rows as the server estimates them">
          <Rows caption="Tables" rows={tables} by={(t) => t.name} columns={[
            { head: 'Table', grow: true, cell: (t) => <span className="font-mono">{t.name}</span> },
            { head: 'Rows', right: true, cell: (t) => count(t.rows) },
            { head: '', cell: (t) => <SizeBar bytes={t.data_bytes} most={mostTable} area="database" /> },
            { head: 'Size', right: true, cell: (t) => <Bytes of={t.data_bytes} /> },
          ]} />
        </Sheet>
      </div>
      <Sheet title="Twenty largest files">
        <Rows caption="Largest files" rows={v.largest} by={(f) => f.path} columns={[
          { head: 'File', grow: true, cell: (f) => <span className="font-mono break-all">{f.path}</span> },
          { head: 'Area', cell: (f) => f.area },
          { head: '', cell: (f) => <SizeBar bytes={f.bytes} most={v.largest[0]?.bytes ?? 0} area={f.area} /> },
          { head: 'Size', right: true, cell: (f) => <Bytes of={f.bytes} /> },
        ]} />
      </Sheet>
    </div>
  )
}

/** The sites of a network. */
function SubSites({ v }: { v: Schemas['Survey'] }) {
  if (!v.sub_sites?.length) return null
  return (
    <Sheet title="Sub-sites" aside="one of them alone is a source of its own: add the same folder again, and name it there">
      <Rows caption="Sub-sites of the network" rows={v.sub_sites} by={(s) => s.id} columns={[
        { head: 'Number', right: true, cell: (s) => s.id },
        { head: 'Title', cell: (s) => <>{s.title}{s.main && <span className="text-soft">, the main one</span>}</> },
        { head: 'Address', grow: true, cell: (s) => <Out href={s.address} /> },
      ]} />
    </Sheet>
  )
}

function Findings({ findings, source }: { findings: Schemas['Finding'][]; source: Schemas['Source'] }) {
  const starters = (useStarters().data ?? []).filter((t) => t.source === source.name)
  const unaccept = useUnacceptFinding()
  const accepted = (f: Schemas['Finding']) => source.accepted?.find((a) => a.what === `${f.what}: ${f.where}`)
  const open = findings.filter((f) => !accepted(f))
  const known = findings.filter(accepted)
  return (
    <Sheet id="findings" title="Findings" aside={known.length > 0 ? `${open.length} open, ${known.length} accepted` : plural(findings.length, 'finding')}>
      {findings.length === 0 ? <Empty>None: nothing large, forgotten or unreadable lies in the tree.</Empty> : (
        <ul>
          {open.map((f) => (
            <li key={f.what + f.where} className="flex flex-wrap items-start gap-x-3 gap-y-1.5 px-4 py-2 border-t border-line">
              <span className="w-24 shrink-0"><Result result={f.severity} /></span>
              <div className="min-w-0 flex-[1_1_20rem]">
                <b>{f.what}</b> <span className="font-mono break-all">{f.where}</span>{(f.count ?? 0) > 1 && <span className="text-soft"> · {count(f.count!)}</span>}
                <p className="text-soft">{f.why}{f.advice && <>; {f.advice}</>}</p>
                {(f.examples?.length ?? 0) > 1 && <details className="text-soft"><summary>for example</summary><ul className="font-mono text-[0.9rem]">{f.examples!.map((x) => <li key={x} className="break-all">{x}</li>)}</ul></details>}
              </div>
              {f.bytes > 0 && <Bytes of={f.bytes} />}
              <span className="flex flex-wrap gap-1.5 justify-end">
                {f.remedy && starters.map((t) => <Remedy key={t.name} starter={t.name} edit={f.remedy!} />)}
                {f.severity !== 'note' && <AcceptButton noun="source" name={source.name} what={f.what} where={f.where} />}
              </span>
            </li>
          ))}
          {known.length > 0 && (
            <li className="border-t border-line">
              <details><summary className="px-4 py-2 text-soft">{known.length} accepted</summary>
                <ul>{known.map((f) => (
                  <li key={f.what + f.where} className="flex gap-3 items-center px-4 py-1.5 border-t border-line">
                    <span className="min-w-0 flex-1"><b>{f.what}</b> <span className="font-mono break-all">{f.where}</span>
                      <span className="block text-soft">{accepted(f)!.reason} ({accepted(f)!.who}, {day(accepted(f)!.at)})</span></span>
                    <Button small disabled={unaccept.isPending} onClick={() => unaccept.mutate({ source: source.name, what: f.what, where: f.where })}>Accept it no more</Button>
                  </li>
                ))}</ul>
              </details>
            </li>
          )}
        </ul>
      )}
    </Sheet>
  )
}
