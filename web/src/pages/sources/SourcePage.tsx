import { useNavigate, useParams } from 'react-router'
import type { Schemas } from '../../api/client'
import { useChangeSource, useCreateStarter, useEditPacking, usePacking, useSource, useStarters, useSurvey } from '../../api/hooks'
import { Areas } from '../../parts/Areas'
import { Ask, text } from '../../parts/Dialog'
import { Button, Bytes, Empty, Field, Head, Input, Loading, Out, Rows, Select, Sheet, SizeBar, Trouble, Result } from '../../parts/basics'
import { count, day, millis, plural, size } from '../../parts/format'
import { MoreOfSource, more } from './Sources'
import { contains, remedyWord, type Edit } from './remedy'

export function SourcePage() {
  const { name = '' } = useParams()
  const source = useSource(name)
  const survey = useSurvey()
  const go = useNavigate()
  if (source.isPending) return <Loading />
  if (!source.data) return <Trouble error={source.error} />
  const s = source.data
  const v = s.survey
  return (
    <>
      <Head title={s.name} facts={<><span>{v?.kind_title ?? s.kind} <b>{s.version}</b></span><Out href={s.address} /><span>on {s.host} in <span className="font-mono">{s.path}</span></span>
        {v && <>{v.runtime && <span>needs PHP <b>{v.runtime}</b></span>}<span>{v.database.engine ? <>{v.database.engine} <b>{v.database.number}</b></> : 'no database'}</span>{v.prefix && <span>prefix <span className="font-mono">{v.prefix}</span></span>}{v.also?.length ? <span>also known as <span className="font-mono">{v.also.join(', ')}</span></span> : null}</>}</>}>
        <Button onClick={async () => go(`/runs/${(await survey.mutateAsync(name)).id}`)}>{v ? 'Survey again' : 'Survey'}</Button>
        <ChangeSource source={s} />
        <CreateStarter source={name} />
      </Head>
      <Trouble error={survey.error} />
      {!v ? <Sheet><Empty>Not surveyed yet. A survey reads it once and says what is there.</Empty></Sheet> : <SurveySheets v={v} source={name} />}
    </>
  )
}

function ChangeSource({ source }: { source: Schemas['Source'] }) {
  const change = useChangeSource()
  return (
    <Ask button="Change" title={`Change ${source.name}`} about="It is read at once where you say, and nothing is changed unless a site of the same kind is there." action="Change"
      onSubmit={(f) => change.mutateAsync({ name: source.name, path: text(f, 'path'), ...more(f) })}>
      <Field label="Web root" hint="its folder, below the host's files">{(id) => <Input id={id} name="path" required defaultValue={source.path} className="font-mono" />}</Field>
      <MoreOfSource />
    </Ask>
  )
}

function SurveySheets({ v, source }: { v: Schemas['Survey']; source: string }) {
  const folders = v.folders.slice(0, 14)
  const tables = [...(v.tables ?? [])].sort((a, b) => b.data_bytes - a.data_bytes)
  const mostTable = Math.max(0, ...tables.map((t) => t.data_bytes))
  return (
    <div className="grid gap-4">
      <Sheet className="p-4 grid grid-cols-[auto_1fr] gap-6 items-center">
        <div><p className="text-[1.35rem] font-bold"><Bytes of={v.totals.bytes + v.totals.database_bytes} /></p><p className="text-soft">{count(v.totals.files)} files, {count(v.totals.folders)} folders, {v.totals.tables} tables; read {day(v.taken_at)} in {millis(v.took_ms)}</p></div>
        <Areas areas={[...v.areas, { area: 'database', bytes: v.totals.database_bytes }]} />
      </Sheet>
      <Findings findings={v.findings} source={source} />
      <div className="grid grid-cols-2 gap-4 items-start">
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

/** The button that makes a remedy part of a starter's packing list, or the word that it is. */
function Remedy({ starter, edit }: { starter: string; edit: Edit }) {
  const packing = usePacking(starter)
  const change = useEditPacking()
  if (contains(packing.data?.list, edit)) {
    return <span className="text-soft whitespace-nowrap">{starter} has this rule{change.data && `: ${count(change.data.in.files)} files, ${size(change.data.in.bytes)}`}</span>
  }
  return (
    <span>
      <Button disabled={change.isPending || packing.isPending} onClick={() => change.mutate({ name: starter, edit })}>{remedyWord(edit)} {starter}</Button>
      <Trouble error={change.error} />
    </span>
  )
}

function Findings({ findings, source }: { findings: Schemas['Finding'][]; source: string }) {
  const starters = (useStarters().data ?? []).filter((t) => t.source === source)
  return (
    <Sheet title="Findings" aside={plural(findings.length, 'finding')}>
      {findings.length === 0 ? <Empty>None: nothing large, forgotten or unreadable lies in the tree.</Empty> : (
        <ul>
          {findings.map((f) => {
            const key = f.what + f.where
            return (
              <li key={key} className="flex items-center gap-3 px-4 py-2 border-t border-line">
                <span className="w-24 shrink-0"><Result result={f.severity} /></span>
                <div className="min-w-0 flex-1">
                  <b>{f.what}</b> <span className="font-mono break-all">{f.where}</span>{(f.count ?? 0) > 1 && <span className="text-soft"> · {count(f.count!)}</span>}
                  <p className="text-soft">{f.why}{f.advice && <>; {f.advice}</>}</p>
                  {(f.examples?.length ?? 0) > 1 && <details className="text-soft"><summary>for example</summary><ul className="font-mono text-[0.9rem]">{f.examples!.map((x) => <li key={x} className="break-all">{x}</li>)}</ul></details>}
                </div>
                {f.bytes > 0 && <Bytes of={f.bytes} />}
                {f.remedy && starters.map((t) => <Remedy key={t.name} starter={t.name} edit={f.remedy!} />)}
              </li>
            )
          })}
        </ul>
      )}
    </Sheet>
  )
}

function CreateStarter({ source }: { source: string }) {
  const create = useCreateStarter()
  const go = useNavigate()
  return (
    <Ask button="Create a starter" primary title={`Create a starter from ${source}`} about="A starter is a named line of packages for reuse. Its packing list says what goes in." action="Create"
      onSubmit={async (f) => {
        const t = await create.mutateAsync({ name: text(f, 'name'), source, list: text(f, 'list') })
        go(`/starters/${t.name}`)
      }}>
      <Field label="Name" hint="small letters, digits, dashes">{(id) => <Input id={id} name="name" required pattern="[a-z0-9][a-z0-9\-]*" />}</Field>
      <Field label="Packing list" hint="starter takes out secrets and people; whole site is for moving it">{(id) => <Select id={id} name="list"><option value="starter">starter</option><option value="whole-site">whole site</option></Select>}</Field>
    </Ask>
  )
}
