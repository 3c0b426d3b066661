import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useEffect, useRef, useState } from 'react'
import { useNavigate } from 'react-router'
import { useCheckLink, useImport } from '../../api/hooks'
import { left, upload } from '../../api/upload'
import { Ask, text } from '../../parts/Dialog'
import { Field, SelectField, TextField, FileBox } from '../../parts/Field'
import { size } from '../../lib/format'
import { namePattern } from '../clients/AddClient'

/** Asks for files or links and imports a release. */
export function Import({ starter, primary }: { starter?: string; primary?: boolean }) {
  const importing = useImport()
  const check = useCheckLink()
  const go = useNavigate()
  const [sending, setSending] = useState('')
  const going = useRef<AbortController>(null)
  useEffect(() => () => going.current?.abort(), []) // also when the page is left

  const gather = async (files: FormDataEntryValue[], links: string, signal: AbortSignal) => {
    const given: { upload?: string; link?: string }[] = []
    for (const link of links.split(/\s+/).filter(Boolean)) {
      const info = await check.mutateAsync(link)
      setSending(`${info.name}: ${info.bytes >= 0 ? size(info.bytes) : t`size not told`}`)
      given.push({ link })
    }
    for (const f of files) {
      if (!(f instanceof File) || f.name === '') continue // none was chosen
      given.push({ upload: await upload(f, (sent) => setSending(t`${f.name}: ${size(sent)} of ${size(f.size)}`), signal) })
    }
    return given
  }
  return (
    <Ask asks="NewImport" button={t`Import a release…`} primary={primary} title={t`Import a release`} action={t`Import`}
      about={t`An archive of a release, whole or in volumes, sealed or not; or a ZIP or tar of a site that was made elsewhere, with its SQL dump inside or beside it. Settings and secrets are blanked by the packing list; nothing of it is run.`}
      onLeave={() => { going.current?.abort(); setSending('') }}
      onSubmit={async (f) => {
        setSending('')
        const { signal } = (going.current = new AbortController())
        const given = await gather(f.getAll('files'), text(f, 'links'), signal)
        if (given.length === 0) throw new Error(t`Choose a file, or give a link.`)
        const [database] = await gather(f.getAll('dump'), text(f, 'dump-link'), signal)
        if (signal.aborted) throw left()
        const what = { files: given, database, key: text(f, 'key') || undefined, list: text(f, 'list') || undefined, note: text(f, 'note') || undefined }
        const run = await importing.mutateAsync({ name: starter ?? text(f, 'starter'), what })
        void go(`/runs/${run.id}`)
      }}>
      {!starter && (
        <div className="grid grid-cols-2 gap-3">
          <TextField label={t`Starter`} name="starter" hint={t`a new one, or one there is`} required pattern={namePattern} mono />
          <SelectField label={t`Packing list`} name="list" hint={t`for a new starter`} choices={[{ value: 'starter' }, { value: 'whole-site', label: t`whole site` }]} />
        </div>
      )}
      <Field label={t`Files`} name="files" hint={t`one archive, its volumes, or a dump`}>{(id, by) => <FileBox id={id} aria-describedby={by} name="files" multiple />}</Field>
      <TextField label={t`Or links to them`} name="links" mono placeholder={t`https://files.example/site.tar.bz2`} />
      <details>
        <summary className="font-semibold"><Trans>SQL dump beside it, key of a sealed archive, note</Trans></summary>
        <div className="grid gap-3 pt-3">
          <Field label={t`Dump`} name="dump">{(id) => <FileBox id={id} name="dump" />}</Field>
          <TextField label={t`Or a link to the dump`} name="dump-link" mono />
          <TextField label={t`Key or passphrase`} name="key" hint={t`of a sealed archive`} type="password" autoComplete="off" />
          <TextField label={t`Note`} name="note" />
        </div>
      </details>
      {sending && <p role="status" className="text-soft font-mono break-all">{sending}</p>}
    </Ask>
  )
}
