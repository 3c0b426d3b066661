import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { useAddKind, useCheckKind, useDraftKind, useHosts, useKinds } from '../../api/hooks'
import { Button } from '../../parts/Button'
import { Ask } from '../../parts/Dialog'
import { Field, SelectField, TextField, Textarea } from '../../parts/Field'
import { FolderPicker } from '../../parts/FolderPicker'
import { Head } from '../../parts/Head'
import { To } from '../../parts/Links'
import { Rows } from '../../parts/Rows'
import { Shown, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'

export function Kinds() {
  const kinds = useKinds()
  return (
    <>
      <Head title={t`Kinds`} facts={t`What families of applications are known: how each is told, where its settings, addresses, accounts and secrets are.`}><AddKind /></Head>
      <Sheet>
        <Shown of={kinds}>{(rows) => (
          <Rows caption={t`Kinds`} rows={rows} by={(k) => k.name} columns={[
            { head: t`Kind`, cell: (k) => <To to={`/kinds/${k.name}`}>{k.title}</To> },
            { head: t`Name`, cell: (k) => <span className="font-mono">{k.name}</span> },
            { head: t`Packing lists`, grow: true, cell: (k) => k.lists.join(', ') },
            { head: '', cell: (k) => <span className="text-soft">{k.stock ? t`comes with Nest Seed` : t`added here`}</span> },
          ]} />
        )}</Shown>
      </Sheet>
    </>
  )
}

/** A definition is pasted, or proposed from what is in a folder, checked, and added. */
function AddKind() {
  const add = useAddKind()
  const check = useCheckKind()
  const [definition, setDefinition] = useState('')
  const go = useNavigate()
  return (
    <Ask wide button={t`Add a kind`} primary title={t`Add a kind`} action={t`Add it`} ready={definition.trim() !== ''} onLeave={() => check.reset()}
      about={t`Its definition says how an application is told and what is where in it. An owner adds it, as it can hold programs that are placed on sites.`}
      onSubmit={async () => { const k = await add.mutateAsync(definition); setDefinition(''); void go(`/kinds/${k.name}`) }}>
      <Draft onDraft={setDefinition} />
      <Field label={t`Definition`} name="definition" hint={t`the guide to kinds says what each part means`}>
        {(id, by, faulty) => <Textarea id={id} aria-describedby={by} fault={faulty} rows={16} spellCheck={false} className="font-mono" value={definition} onChange={(e) => { setDefinition(e.target.value); check.reset() }} />}
      </Field>
      <p className="flex items-center gap-3">
        <Button disabled={definition.trim() === '' || check.isPending} onClick={() => check.mutate(definition)}><Trans>Check it</Trans></Button>
        {check.data && <span role="status" className="text-leaf-strong"><Trans>It can be read: {check.data.title}, with {check.data.lists.join(', ')}.</Trans></span>}
      </p>
      <Trouble error={check.error} />
    </Ask>
  )
}

function Draft({ onDraft }: { onDraft: (definition: string) => void }) {
  const hosts = useHosts().data ?? []
  const draft = useDraftKind()
  const [asked, setAsked] = useState({ name: '', host: '', path: '' })
  const host = asked.host || hosts[0]?.name || ''
  return (
    <details>
      <summary><Trans>Propose one from what is in a folder</Trans></summary>
      <div className="grid sm:grid-cols-2 gap-3 mt-3">
        <TextField label={t`Name of the kind`} name="draft_name" mono value={asked.name} onChange={(e) => setAsked({ ...asked, name: e.target.value })} />
        <SelectField label={t`Host`} name="draft_host" value={host} onChange={(e) => setAsked({ ...asked, host: e.target.value })} choices={hosts.map((h) => ({ value: h.name }))} />
        <Field label={t`Folder`} name="draft_path">{(id) => <FolderPicker optional id={id} name="draft_path" host={host} value={asked.path} onPick={(path) => setAsked({ ...asked, path })} />}</Field>
        <div className="self-end"><Button disabled={!asked.name || !asked.path || draft.isPending} onClick={() => draft.mutate({ ...asked, host }, { onSuccess: (d) => onDraft(d.definition) })}><Trans>Propose it</Trans></Button></div>
      </div>
      <Trouble error={draft.error} />
    </details>
  )
}

