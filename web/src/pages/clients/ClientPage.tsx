import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useNavigate, useParams } from 'react-router'
import type { Client, Schemas } from '../../api/client'
import { useClient, useFieldsByKey, usePacking, useRemoveClient, useSetClient, useSitePage, useStarters } from '../../api/hooks'
import { ButtonLink } from '../../parts/Button'
import { Ask, text } from '../../parts/Dialog'
import { TextField, Tick } from '../../parts/Field'
import { Head } from '../../parts/Head'
import { Out, To } from '../../parts/Links'
import { Rows } from '../../parts/Rows'
import { Empty, Loading, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { Checks } from '../sites/Checks'
import { Reveal } from '../vault/Reveal'
import { Picture, shownValue, ValueField } from './ValueField'

export function ClientPage() {
  const { name = '' } = useParams()
  const client = useClient(name)
  const sites = useSitePage({ client: name, limit: 100 }).data?.sites ?? []
  const starters = useStarters().data ?? []
  const fields = useFieldsByKey(starters.map((s) => s.name))
  if (client.isPending) return <Loading />
  if (!client.data) return <><Head title={name} /><Trouble error={client.error} /></>
  const settings = Object.entries(client.data.settings).sort(([a], [b]) => (fields[a]?.label ?? a).localeCompare(fields[b]?.label ?? b))
  return (
    <>
      <Head title={client.data.settings.title?.value || name} crumbs={[{ to: '/clients', label: t`Clients` }]} facts={<span className="font-mono">{name}</span>}>
        {sites.length === 0 && <Remove name={name} />}
        <ButtonLink primary to={`/sites/new?client=${name}`}><Trans>Make a site</Trans></ButtonLink>
      </Head>
      <div className="grid gap-4 xl:grid-cols-2 items-start">
        <Sheet title={t`Settings`} aside={<Change name={name} />}>
          {settings.length === 0 ? <Empty><Trans>None yet.</Trans></Empty> : (
            <Rows caption={t`Settings`} rows={settings} by={([k]) => k} columns={[
              { head: t`Setting`, cell: ([k]) => <Named by={k} label={fields[k]?.label} /> },
              { head: t`Value`, grow: true, cell: ([k, v]) => (v.secret ? <Reveal noun="client" owner={name} name={k} /> : <Shown client={name} field={fields[k]} value={v.value} />) },
              { head: '', cell: ([k, v]) => <Change name={name} of={k} value={v.secret ? '' : v.value} secret={v.secret} field={fields[k]} /> },
            ]} />
          )}
          {starters.map((s) => <Lacking key={s.name} starter={s.name} client={client.data} />)}
        </Sheet>
        <Sheet title={t`Sites`}>
          {sites.length === 0 ? <Empty><Trans>None yet.</Trans></Empty> : (
            <Rows caption={t`Sites`} rows={sites} by={(s) => s.name} columns={[
              { head: t`Site`, cell: (s) => <To to={`/sites/${s.name}`}>{s.name}</To> },
              { head: t`Address`, grow: true, cell: (s) => <Out href={s.address} /> },
              { head: t`Release`, cell: (s) => <To to={`/releases/${s.release}`}>{s.release}</To> },
              { head: t`Checks`, cell: (s) => <Checks counts={s.checks} /> },
            ]} />
          )}
        </Sheet>
      </div>
    </>
  )
}

function Remove({ name }: { name: string }) {
  const remove = useRemoveClient()
  const go = useNavigate()
  return (
    <Ask danger button={t`Remove…`} title={t`Remove client ${name}`} action={t`Remove it`} about={t`Its settings and their secrets are removed with it.`}
      onSubmit={async () => { await remove.mutateAsync(name); void go('/clients') }} />
  )
}

/** What a starter asks for that the client does not have yet. */
function Lacking({ starter, client }: { starter: string; client: Client }) {
  const fields = usePacking(starter).data?.list.fields ?? []
  const lacking = fields.filter((f) => f.required && !f.default && !client.settings[f.key])
  if (lacking.length === 0) return null
  return (
    <div className="px-4 py-2 border-t border-line">
      <p className="text-soft mb-1.5"><Trans>For <To to={`/starters/${starter}`}>{starter}</To> still missing:</Trans></p>
      <ul className="grid gap-1">
        {lacking.map((f) => <li key={f.key} className="flex items-center gap-3"><b className="min-w-40">{f.label}</b><span className="text-soft flex-1">{f.example && t`like ${f.example}`}</span><FillIn client={client.name} field={f} /></li>)}
      </ul>
    </div>
  )
}

function FillIn({ client, field }: { client: string; field: Schemas['Field'] }) {
  const set = useSetClient()
  return (
    <Ask small button={t`Fill in`} title={t`${field.label} of ${client}`} action={t`Save`} about={field.secret ? t`It goes into the vault.` : undefined}
      onSubmit={(f) => set.mutateAsync({ name: client, settings: { [field.key]: text(f, 'value') }, secret: field.secret ? [field.key] : undefined })}>
      <ValueField client={client} field={field} />
    </Ask>
  )
}

/** A setting as the fields that ask for it call it, and its key, which columns of tables and the command line have. */
const Named = ({ by, label }: { by: string; label?: string }) => (
  <span className="flex flex-wrap items-baseline gap-x-2 py-1 leading-tight">{label}<span className={label ? 'font-mono text-faint' : 'font-mono'}>{by}</span></span>
)

/** What a setting holds: of a colour, with the colour; of a picture, with the picture. */
function Shown({ client, field, value }: { client: string; field?: Schemas['Field']; value: string }) {
  if (field?.type === 'image') return <span className="flex items-center gap-3 py-1"><Picture client={client} value={value} alt={field.label} />{shownValue(value)}</span>
  if (field?.type !== 'colour') return <span className="whitespace-pre-line">{shownValue(value)}</span>
  return <span className="flex items-center gap-2"><span aria-hidden className="size-4 rounded border border-line-strong" style={{ background: value }} />{value}</span>
}

type ChangeProps = { name: string; of?: string; value?: string; secret?: boolean; field?: Schemas['Field'] }

function Change({ name, of, value, secret, field }: ChangeProps) {
  const set = useSetClient()
  return (
    <Ask small button={of ? t`Change` : t`Add a setting`} title={of ? t`Change ${of} of ${name}` : t`Add a setting to ${name}`} action={t`Save`}
      about={secret ? t`The new value goes into the vault.` : t`An empty value removes the setting.`}
      onSubmit={(f) => {
        const key = of ?? text(f, 'key')
        return set.mutateAsync({ name, settings: { [key]: text(f, 'value') }, secret: secret || f.get('secret') ? [key] : undefined })
      }}>
      {!of && <TextField label={t`Setting`} name="key" hint={t`like title, email, phone`} required pattern="[a-z0-9][a-z0-9_.\-]*" mono />}
      {field && field.type && !secret ? <ValueField client={name} field={field} defaultValue={value} />
        : <TextField label={t`Value`} name="value" defaultValue={value} autoComplete="off" type={secret ? 'password' : 'text'} data-secret={!of || undefined} />}
      {!of && <Tick name="secret"><Trans>Keep it in the vault</Trans></Tick>}
    </Ask>
  )
}
