import type { ReactNode } from 'react'
import { useNavigate } from 'react-router'
import { useAddSource, useHosts, useSources } from '../../api/hooks'
import { Ask, text } from '../../parts/Dialog'
import { Bytes, Empty, Field, Head, Input, Loading, Out, Rows, Select, Sheet, SizeBar, To, Trouble } from '../../parts/basics'
import { count, day } from '../../parts/format'

export function Sources() {
  const sources = useSources()
  const rows = sources.data ?? []
  const total = (s: (typeof rows)[number]) => (s.survey ? s.survey.totals.bytes + s.survey.totals.database_bytes : 0)
  const most = Math.max(0, ...rows.map(total))
  return (
    <>
      <Head title="Sources" facts="Configured sites that starters are built from. They are only read, never written to."><AddSource /></Head>
      <Trouble error={sources.error} />
      <Sheet>
        {sources.isPending ? <Loading /> : rows.length === 0 ? <Empty>No sources yet. Add a host first, then a site on it.</Empty> : (
          <Rows caption="Sources" rows={rows} by={(s) => s.name} columns={[
            { head: 'Source', cell: (s) => <To to={`/sources/${s.name}`}>{s.name}</To> },
            { head: 'Kind', cell: (s) => `${s.survey?.kind_title ?? s.kind} ${s.version}` },
            { head: 'Address', grow: true, cell: (s) => <Out href={s.address} /> },
            { head: 'Host', cell: (s) => s.host },
            { head: '', cell: (s) => <SizeBar bytes={total(s)} most={most} /> },
            { head: 'Size', right: true, cell: (s) => (s.survey ? <Bytes of={total(s)} /> : 'not surveyed') },
            { head: 'Files', right: true, cell: (s) => (s.survey ? count(s.survey.totals.files) : '') },
            { head: 'Findings', right: true, cell: (s) => s.survey?.findings.length ?? '' },
            { head: 'Surveyed', right: true, cell: (s) => (s.survey ? day(s.survey.taken_at) : '') },
          ]} />
        )}
      </Sheet>
    </>
  )
}

function AddSource() {
  const hosts = useHosts().data ?? []
  const add = useAddSource()
  const go = useNavigate()
  return (
    <Ask button="Add a source" primary title="Add a source" about="Kind, settings and database are found out by reading its settings file; nothing is run or written, unless you let the source be asked." action="Add"
      onSubmit={async (f) => {
        const s = await add.mutateAsync({ name: text(f, 'name'), host: text(f, 'host'), path: text(f, 'path'), ...more(f), ask: f.get('ask') !== null || undefined })
        go(`/sources/${s.name}`)
      }}>
      <Field label="Name" hint="small letters, digits, dashes">{(id) => <Input id={id} name="name" required pattern="[a-z0-9][a-z0-9\-]*" />}</Field>
      <Field label="Host">{(id) => <Select id={id} name="host" required>{hosts.map((h) => <option key={h.name}>{h.name}</option>)}</Select>}</Field>
      <Field label="Web root" hint="its folder, below the host's files">{(id) => <Input id={id} name="path" required className="font-mono" />}</Field>
      <MoreOfSource><label className="flex gap-2 items-center"><input type="checkbox" name="ask" />Ask the source itself, at its address: a page is placed in its folder for one request</label></MoreOfSource>
    </Ask>
  )
}

const given = (f: FormData, name: string) => text(f, name) || undefined

/** What is read from the site's settings file and database unless it is given. */
export const more = (f: FormData) => ({ address: given(f, 'address'), database: given(f, 'database'), database_password: given(f, 'password'), prefix: given(f, 'prefix') })

export function MoreOfSource({ children }: { children?: ReactNode }) {
  return (
    <details>
      <summary className="cursor-pointer text-soft">Address, database and table prefix, where they cannot be read</summary>
      <div className="grid gap-3 mt-3">
        <Field label="Address" hint="empty to read it from the database">{(id) => <Input id={id} name="address" className="font-mono" />}</Field>
        <Field label="Database" hint="like mysql://user@127.0.0.1:3306/name; empty to read it from the settings file">{(id) => <Input id={id} name="database" className="font-mono" />}</Field>
        <Field label="Password of the database account">{(id) => <Input id={id} name="password" type="password" autoComplete="off" />}</Field>
        <Field label="Table prefix" hint="how the names of its tables begin">{(id) => <Input id={id} name="prefix" pattern="[A-Za-z0-9_]+" className="font-mono" />}</Field>
        {children}
      </div>
    </details>
  )
}
