import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useState, type ReactNode } from 'react'
import { useNavigate } from 'react-router'
import { useAddSource, useHosts } from '../../api/hooks'
import { Ask, text } from '../../parts/Dialog'
import { Field, SelectField, TextField, Tick } from '../../parts/Field'
import { FolderPicker } from '../../parts/FolderPicker'

export function AddSource({ primary }: { primary?: boolean }) {
  const hosts = useHosts().data ?? []
  const add = useAddSource()
  const go = useNavigate()
  const [host, setHost] = useState('')
  const [path, setPath] = useState('')
  return (
    <Ask asks="NewSource" button={t`Add a source`} primary={primary} title={t`Add a source`} action={t`Add`}
      about={t`Its kind, settings and database are found out by reading its settings file; nothing is run or written, unless you let the source be asked.`}
      onSubmit={async (f) => {
        const s = await add.mutateAsync({
          name: text(f, 'name'), host: text(f, 'host'), path: text(f, 'path'), ...more(f), sub_site: text(f, 'sub_site') || undefined, ask: f.get('ask') !== null || undefined,
        })
        setPath('')
        void go(`/sources/${s.name}`)
      }}>
      <TextField label={t`Name`} name="name" hint={t`small letters, digits, dashes`} mono />
      <SelectField label={t`Host`} name="host" required value={host || hosts[0]?.name || ''} onChange={(e) => setHost(e.target.value)} choices={hosts.map((h) => ({ value: h.name }))} />
      <Field label={t`Web root`} name="path" hint={t`its folder, below the host’s files`}>
        {(id) => <FolderPicker id={id} name="path" host={host || hosts[0]?.name || ''} value={path} onPick={setPath} />}
      </Field>
      <MoreOfSource>
        <TextField label={t`Sub-site`} name="sub_site" mono hint={t`of a network of sites, the one that is meant: its host name, folder or number`} />
        <Tick name="ask"><Trans>Ask the source itself, at its address: a page is placed in its folder for one request</Trans></Tick>
      </MoreOfSource>
    </Ask>
  )
}

const given = (f: FormData, name: string) => text(f, name) || undefined

/** What is read from the site's settings file and database unless it is given. */
export const more = (f: FormData) => ({ address: given(f, 'address'), database: given(f, 'database'), database_password: given(f, 'database_password'), prefix: given(f, 'prefix'), confirm_account: f.get('confirm_account') !== null || undefined })

export function MoreOfSource({ children }: { children?: ReactNode }) {
  return (
    <details>
      <summary className="text-soft"><Trans>Address, database and table prefix, where they cannot be read</Trans></summary>
      <div className="grid gap-3 mt-3">
        <TextField label={t`Address`} name="address" hint={t`empty to read it from the database`} mono />
        <TextField label={t`Database`} name="database" hint={t`like mysql://user@127.0.0.1:3306/name; empty to read it from the settings file`} mono />
        <TextField label={t`Password of the database account`} name="database_password" type="password" autoComplete="off" />
        <TextField label={t`Table prefix`} name="prefix" hint={t`how the names of its tables begin`} mono />
        <Tick name="confirm_account"><Trans>Its database account may read other databases, too; only an owner can confirm that</Trans></Tick>
        {children}
      </div>
    </details>
  )
}
