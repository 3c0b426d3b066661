import { plural, t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useEffect, useState } from 'react'
import type { Schemas } from '../../api/client'
import { useHosts, usePacking, usePlanTable, useReleases } from '../../api/hooks'
import { drafts, held, useAskBeforeClosing, useHeld } from '../../lib/drafts'
import { size } from '../../lib/format'
import { usual } from '../../lib/usual'
import { Button } from '../../parts/Button'
import { Field, FileBox, Select, Tick } from '../../parts/Field'
import { Head } from '../../parts/Head'
import { Empty, Loading, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { TableField } from '../../parts/TableField'
import { isFile } from '../clients/ValueField'
import { cellKey, planned, type Given } from './cellFiles'
import { CodeChoice } from './CodeChoice'
import { useMaking } from './making'
import { rowsOf, withoutSecrets, type Row } from './rows'
import { TablePlans } from './TablePlans'
import { useUsualHost } from './usualHost'

const nothing = { from: '', host: '', install: '', visible: false, hold: true, mail: false, mailAddresses: false, mend: false }

type Draft = { choice: typeof nothing; rows: Row[] | null }

const draftKey = 'make a table'
const rowsKey = 'rows of a table to make' // with their secrets
const filesKey = 'files of a table to make'
const noFiles: Given = { named: [], own: {} }

const hasFiles = (given: Given) => given.named.length > 0 || Object.values(given.own).some(Boolean)

function forget() {
  drafts.drop(draftKey)
  held.drop(rowsKey)
  held.drop(filesKey)
}

/** A table of clients on the left, what each row would become on the right; cells are corrected there. */
export function MakeTable() {
  const hosts = useHosts().data ?? []
  const releases = useReleases().data ?? []
  const [kept] = useState(() => drafts.read<Draft>(draftKey))
  const [choice, setChoice] = useState(kept?.choice ?? nothing)
  const [whole] = useState(() => held.has(rowsKey))
  const [rows, setRows] = useHeld<Row[] | null>(rowsKey, kept?.rows ?? null)
  const [again, setAgain] = useState(rows !== null)
  const [turn, setTurn] = useState(0) // of the field that takes a table, which is empty when one begins anew
  const [given, setGiven] = useHeld(filesKey, noFiles)
  const from = choice.from || usual(releases)
  const usualHost = useUsualHost()
  const host = choice.host || usualHost
  const starter = from.split('@')[0] ?? ''
  const packing = usePacking(starter).data
  const fields = packing?.list.fields ?? []
  useEffect(() => {
    if (!packing || (!rows && choice === nothing)) return
    drafts.write(draftKey, { choice, rows: rows && withoutSecrets(rows, packing.list.fields ?? []) })
  }, [choice, rows, packing])
  const anew = () => {
    setChoice(nothing)
    setRows(null)
    setGiven(noFiles)
    forget()
    setAgain(false)
    setTurn((before) => before + 1)
  }
  const wanted: Schemas['NewTable'] | null = rows && from && host ? {
    from: choice.install ? '' : from, host: choice.install ? '' : host, tenant_of: choice.install || undefined, visible: choice.visible, hold: choice.hold,
    mail: choice.mail, mail_addresses: choice.mailAddresses, mend: choice.mend, rows: planned(rows, fields, given),
  } : null
  const plan = usePlanTable(wanted)
  const making = useMaking(forget)
  const secrets = rows !== null && JSON.stringify(rows) !== JSON.stringify(withoutSecrets(rows, fields))
  useAskBeforeClosing(making.busy || secrets || hasFiles(given))
  const pick = (part: Partial<typeof choice>) => setChoice((c) => ({ ...c, ...part }))
  const edit = (at: number, part: Partial<Row>) => setRows((all) => all!.map((r, i) => (i === at ? { ...r, ...part } : r)))
  const choose = (at: number, field: string, file?: File) => {
    setGiven((g) => ({ ...g, own: { ...g.own, [cellKey(at, field)]: file } }))
    edit(at, { set: { ...rows![at]!.set, [field]: file?.name ?? '' } })
  }
  const p = plan.data
  const sample = [['client', 'address', ...fields.filter((f) => !f.secret).map((f) => f.key)], ['alder-valley', '', ...fields.filter((f) => !f.secret).map((f) => f.example ?? '')]]
  return (
    <>
      <Head title={t`Make sites from a table`} crumbs={[{ to: '/sites', label: t`Sites` }]}
        facts={t`A column “client”, and “address”, “name” and settings as further columns. Clients who are not there yet are added. Each row succeeds or fails by itself.`}>
        {rows && <Button onClick={anew}><Trans>Start over</Trans></Button>}
        <Button primary disabled={!p || p.ready === 0 || plan.isFetching || making.busy} onClick={() => void making.make({ ...wanted!, rows: rows! }, fields, given)}>
          {making.says || <Trans>Make {p ? plural(p.ready, { one: '# site', other: '# sites' }) : t`the sites`}</Trans>}
        </Button>
      </Head>
      <Trouble error={making.error} />
      <div className="grid lg:grid-cols-[minmax(0,320px)_minmax(0,1fr)] gap-6 items-start">
        <form className="grid gap-3" onSubmit={(e) => e.preventDefault()}>
          <TableField key={turn} label={t`Table`} need="client" sample={sample} onTable={(table) => { setAgain(false); setRows(table && rowsOf(table)); setGiven((g) => ({ ...g, own: {} })) }} />
          {fields.some(isFile) && (
            <Field label={t`Pictures and files that cells name`} hint={given.named.length > 0 ? plural(given.named.length, { one: '# file', other: '# files' }) : t`a cell has the name of one, or a link to it`}>{(id, by) => (
              <FileBox key={turn} id={id} aria-describedby={by} multiple chosen={given.named} onChange={(e) => setGiven((g) => ({ ...g, named: [...(e.target.files ?? [])] }))} />
            )}</Field>
          )}
          <Field label={t`From release`} name="from">{(id) => (
            <Select id={id} value={from} disabled={!!choice.install} onChange={(e) => pick({ from: e.target.value })}>
              {releases.filter((r) => r.kept).map((r) => <option key={r.ref} value={r.ref}>{r.ref} · {size(r.archive_bytes)}</option>)}
            </Select>
          )}</Field>
          <Field label={t`Host`} name="host">{(id) => (
            <Select id={id} value={host} disabled={!!choice.install} onChange={(e) => pick({ host: e.target.value })}>{hosts.map((h) => <option key={h.name}>{h.name}</option>)}</Select>
          )}</Field>
          <CodeChoice value={choice.install} onPick={(install) => pick({ install })} />
          <fieldset className="grid gap-1.5">
            <legend className="font-bold mb-1"><Trans>Who sees them</Trans></legend>
            <Tick checked={choice.hold} onChange={(e) => pick({ hold: e.target.checked })}><Trans>Keep visitors out until each is opened</Trans></Tick>
            <Tick checked={choice.visible} onChange={(e) => pick({ visible: e.target.checked })}><Trans>Let search engines in</Trans></Tick>
            {(!choice.visible || choice.hold) && <Tick checked={choice.mail} onChange={(e) => pick({ mail: e.target.checked })}><Trans>Let their mail go out, though they are previews</Trans></Tick>}
          </fieldset>
          <fieldset className="grid gap-1.5">
            <legend className="font-bold mb-1"><Trans>Other changes</Trans></legend>
            <Tick checked={choice.mailAddresses} onChange={(e) => pick({ mailAddresses: e.target.checked })}><Trans>Change mail addresses at the old host too</Trans></Tick>
            <Tick checked={choice.mend} onChange={(e) => pick({ mend: e.target.checked })}><Trans>Mend serialised values that are broken in the source</Trans></Tick>
          </fieldset>
        </form>
        <Sheet title={t`Plan`} aside={p && t`${p.ready} would be made, ${plural(p.there, { one: '# is', other: '# are' })} there, ${p.wrong} would fail · nothing has been touched`}>
          <div className="px-4"><Trouble error={plan.error} /></div>
          {again && rows && <p className="mx-4 mb-3 bg-bench rounded px-3 py-1.5 text-soft">{whole ? <Trans>The table that you gave before is here again.</Trans> : <Trans>The table that you gave before is here again, without secrets and files.</Trans>}</p>}
          {!rows ? <Empty><Trans>Choose or paste a table to see what each row would become.</Trans></Empty>
            : !p ? !plan.error && <Loading /> : <TablePlans plans={p.rows} rows={rows} fields={fields} onEdit={edit} onChoose={choose} />}
          {p && p.wrong > 0 && <p className="px-4 py-3 text-soft border-t border-line-strong"><Trans>Rows that are not ready fail; correct them here, or give the same table again later: sites that are there are passed over.</Trans></p>}
        </Sheet>
      </div>
    </>
  )
}
