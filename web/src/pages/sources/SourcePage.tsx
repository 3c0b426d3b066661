import { plural, t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { useNavigate, useParams } from 'react-router'
import { called } from '../../lib/called'
import type { Schemas } from '../../api/client'
import {
  useChangeSource, useCheckSource, useRemoveSource, useSource, useStarters, useUnacceptFinding,
} from '../../api/hooks'
import { count, day, millis } from '../../lib/format'
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
  const starters = (useStarters().data ?? []).filter((starter) => starter.source === name)
  const check = useCheckSource()
  const { start } = useFollow()
  if (source.isPending) return <Loading />
  if (!source.data) return <><Head title={name} /><Trouble error={source.error} /></>
  const s = source.data
  const v = s.survey
  return (
    <>
      <Head title={s.name} crumbs={[{ to: '/sources', label: t`Sources` }]} facts={<><span>{v?.kind_title ?? s.kind} <b>{s.version}</b></span><Out href={s.address} /><span><Trans>on <To to={`/hosts/${s.host}`}>{s.host}</To> in <span className="font-mono">{s.path}</span></Trans></span>
        {s.sub_site && <span><Trans>the sub-site <b>{s.sub_site}</b> of a network</Trans></span>}{s.network && <span><Trans>a network of sites</Trans></span>}
        {v && <>{v.runtime && <span><Trans>needs PHP <b>{v.runtime}</b></Trans></span>}<span>{v.database.engine ? <>{v.database.engine} <b>{v.database.number}</b></> : t`no database`}</span>{v.prefix && <span><Trans>prefix <span className="font-mono">{v.prefix}</span></Trans></span>}{v.also?.length ? <span><Trans>also known as <span className="font-mono">{v.also.join(', ')}</span></Trans></span> : null}</>}
        {starters.length > 0 && <span><Trans>starters {starters.map((starter, i) => <span key={starter.name}>{i > 0 && ', '}<To to={`/starters/${starter.name}`}>{starter.name}</To></span>)}</Trans></span>}</>}>
        <RemoveSource name={name} />
        <ChangeSource source={s} />
        <Button disabled={check.isPending} onClick={() => start(check.mutateAsync(name))}><Trans>Check its pages</Trans></Button>
        <StartSurvey source={name} again={!!v} primary={!v} />
        {v && <CreateStarter source={name} />}
      </Head>
      <Trouble error={check.error} />
      {!v ? <Sheet><Empty><Trans>Not surveyed yet. A survey reads it once and says what is there.</Trans></Empty></Sheet> : <SurveySheets v={v} source={s} />}
    </>
  )
}

function RemoveSource({ name }: { name: string }) {
  const remove = useRemoveSource()
  const go = useNavigate()
  return (
    <Ask danger button={t`Remove…`} title={t`Remove source ${name}`} action={t`Remove it`} about={t`It is forgotten here, with its surveys. The site itself is not touched. A source that a starter is built from stays.`}
      onSubmit={async () => { await remove.mutateAsync(name); void go('/sources') }} />
  )
}

function ChangeSource({ source }: { source: Schemas['Source'] }) {
  const change = useChangeSource()
  return (
    <Ask asks="ChangedSource" button={t`Change…`} title={t`Change ${source.name}`} about={t`It is read at once where you say, and nothing is changed unless a site of the same kind is there.`} action={t`Change`}
      onSubmit={(f) => change.mutateAsync({ name: source.name, path: text(f, 'path'), ...more(f) })}>
      <TextField label={t`Web root`} name="path" hint={t`its folder, below the host’s files`} required defaultValue={source.path} mono />
      <MoreOfSource />
    </Ask>
  )
}

function SurveySheets({ v, source }: { v: Schemas['Survey']; source: Schemas['Source'] }) {
  const folders = v.folders.slice(0, 14)
  const tables = [...(v.tables ?? [])].sort((a, b) => b.data_bytes - a.data_bytes)
  const mostTable = Math.max(0, ...tables.map((table) => table.data_bytes))
  return (
    <div className="grid gap-4">
      <Sheet className="p-4 grid lg:grid-cols-[auto_1fr] gap-x-6 gap-y-3 items-center">
        <div><p className="text-[1.35rem] font-bold"><Bytes of={v.totals.bytes + v.totals.database_bytes} /></p><p className="text-soft"><Trans><Plural value={v.totals.files} one="# file" other="# files" />, <Plural value={v.totals.folders} one="# folder" other="# folders" />, {v.totals.tables} tables; read {day(v.taken_at)} in {millis(v.took_ms)}</Trans></p></div>
        <Areas areas={[...v.areas, { area: 'database', bytes: v.totals.database_bytes }]} />
      </Sheet>
      <SubSites v={v} />
      <Findings findings={v.findings} source={source} />
      <div className="grid lg:grid-cols-2 gap-4 items-start">
        <Sheet title={t`Largest folders`}>
          <Rows caption={t`Largest folders`} rows={folders} by={(f) => f.path} columns={[
            { head: t`Folder`, grow: true, cell: (f) => <span className="font-mono">{f.path}</span> },
            { head: t`Files`, right: true, cell: (f) => count(f.files) },
            { head: '', cell: (f) => <SizeBar bytes={f.bytes} most={folders[0]?.bytes ?? 0} area={f.area} /> },
            { head: t`Size`, right: true, cell: (f) => <Bytes of={f.bytes} /> },
          ]} />
        </Sheet>
        <Sheet title={t`Tables`} aside={t`rows as the server estimates them`}>
          <Rows caption={t`Tables`} rows={tables} by={(table) => table.name} columns={[
            { head: t`Table`, grow: true, cell: (table) => <span className="font-mono">{table.name}</span> },
            { head: t`Rows`, right: true, cell: (table) => count(table.rows) },
            { head: '', cell: (table) => <SizeBar bytes={table.data_bytes} most={mostTable} area="database" /> },
            { head: t`Size`, right: true, cell: (table) => <Bytes of={table.data_bytes} /> },
          ]} />
        </Sheet>
      </div>
      <Sheet title={t`Twenty largest files`}>
        <Rows caption={t`Largest files`} rows={v.largest} by={(f) => f.path} columns={[
          { head: t`File`, grow: true, cell: (f) => <span className="font-mono break-all">{f.path}</span> },
          { head: t`Area`, cell: (f) => called(f.area ?? '') },
          { head: '', cell: (f) => <SizeBar bytes={f.bytes} most={v.largest[0]?.bytes ?? 0} area={f.area} /> },
          { head: t`Size`, right: true, cell: (f) => <Bytes of={f.bytes} /> },
        ]} />
      </Sheet>
    </div>
  )
}

/** The sites of a network. */
function SubSites({ v }: { v: Schemas['Survey'] }) {
  if (!v.sub_sites?.length) return null
  return (
    <Sheet title={t`Sub-sites`} aside={t`one of them alone is a source of its own: add the same folder again, and name it there`}>
      <Rows caption={t`Sub-sites of the network`} rows={v.sub_sites} by={(s) => s.id} columns={[
        { head: t`Number`, right: true, cell: (s) => s.id },
        { head: t`Title`, cell: (s) => <>{s.title}{s.main && <span className="text-soft"><Trans>, the main one</Trans></span>}</> },
        { head: t`Address`, grow: true, cell: (s) => <Out href={s.address} /> },
      ]} />
    </Sheet>
  )
}

function Findings({ findings, source }: { findings: Schemas['Finding'][]; source: Schemas['Source'] }) {
  const starters = (useStarters().data ?? []).filter((starter) => starter.source === source.name)
  const unaccept = useUnacceptFinding()
  const accepted = (f: Schemas['Finding']) => source.accepted?.find((a) => a.what === `${f.what}: ${f.where}`)
  const open = findings.filter((f) => !accepted(f))
  const known = findings.filter(accepted)
  return (
    <Sheet id="findings" title={t`Findings`} aside={known.length > 0 ? t`${open.length} open, ${known.length} accepted` : plural(findings.length, { one: '# finding', other: '# findings' })}>
      {findings.length === 0 ? <Empty><Trans>None: nothing large, forgotten or unreadable lies in the tree.</Trans></Empty> : (
        <ul>
          {open.map((f) => (
            <li key={f.what + f.where} className="flex flex-wrap items-start gap-x-3 gap-y-1.5 px-4 py-2 border-t border-line">
              <span className="w-24 shrink-0"><Result result={f.severity} /></span>
              <div className="min-w-0 flex-[1_1_20rem]">
                <b>{f.what}</b> <span className="font-mono break-all">{f.where}</span>{(f.count ?? 0) > 1 && <span className="text-soft"> · {count(f.count!)}</span>}
                <p className="text-soft">{f.why}{f.advice && <>; {f.advice}</>}</p>
                {(f.examples?.length ?? 0) > 1 && <details className="text-soft"><summary><Trans>for example</Trans></summary><ul className="font-mono text-[0.9rem]">{f.examples!.map((x) => <li key={x} className="break-all">{x}</li>)}</ul></details>}
              </div>
              {f.bytes > 0 && <Bytes of={f.bytes} />}
              <span className="flex flex-wrap gap-1.5 justify-end">
                {f.remedy && starters.map((starter) => <Remedy key={starter.name} starter={starter.name} edit={f.remedy!} />)}
                {f.severity !== 'note' && <AcceptButton noun="source" name={source.name} what={f.what} where={f.where} />}
              </span>
            </li>
          ))}
          {known.length > 0 && (
            <li className="border-t border-line">
              <details><summary className="px-4 py-2 text-soft"><Trans>{known.length} accepted</Trans></summary>
                <ul>{known.map((f) => (
                  <li key={f.what + f.where} className="flex gap-3 items-center px-4 py-1.5 border-t border-line">
                    <span className="min-w-0 flex-1"><b>{f.what}</b> <span className="font-mono break-all">{f.where}</span>
                      <span className="block text-soft">{accepted(f)!.reason} ({accepted(f)!.who}, {day(accepted(f)!.at)})</span></span>
                    <Button small disabled={unaccept.isPending} onClick={() => unaccept.mutate({ source: source.name, what: f.what, where: f.where })}><Trans>Stop accepting</Trans></Button>
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
