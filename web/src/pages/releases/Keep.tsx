import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useState } from 'react'
import { addressBelow, addressOf, body, http, type Release } from '../../api/client'
import { useDiscard } from '../../api/hooks'
import { Ask, text } from '../../parts/Dialog'
import { Field, Input, Select } from '../../parts/Field'
import { size } from '../../lib/format'

export function Discard({ release }: { release: Release }) {
  const discard = useDiscard()
  return (
    <Ask button={t`Discard archive…`} title={t`Discard the archive of ${release.ref}`} action={t`Discard ${size(release.archive_bytes)}`}
      about={t`The record of the release stays, with what was in it. No site can be made from it any more; those that were are not touched.`}
      onSubmit={() => discard.mutateAsync(release.ref)} />
  )
}

const save = (address: string, name: string) => {
  const a = document.createElement('a')
  a.href = address
  a.download = name
  a.click()
}

/** Downloads an archive as it is, in volumes, or sealed. */
export function Download({ release }: { release: Release }) {
  const [how, setHow] = useState('whole')
  const path = { ref: release.ref }
  const name = `${release.starter}-${release.number}.zip`
  const submit = async (f: FormData) => {
    if (how === 'whole') return save(addressOf('/releases/{ref}/archive', { path }), name)
    if (how === 'volumes') {
      const bytes = Number(text(f, 'megabytes')) * 1_000_000
      for (const v of await body(http.GET('/releases/{ref}/volumes', { params: { path, query: { size: bytes } } }))) {
        save(addressBelow(v.path), v.name)
        await new Promise((done) => setTimeout(done, 400)) // browsers drop downloads that begin together
      }
      return
    }
    const recipients = text(f, 'recipients').split(/\s+/).filter(Boolean)
    const passphrase = text(f, 'passphrase')
    const sealed = await body<Blob>(http.POST('/releases/{ref}/sealed', { params: { path }, body: passphrase ? { passphrase } : { recipients }, parseAs: 'blob' }))
    const blob = URL.createObjectURL(sealed)
    save(blob, `${name}.age`)
    setTimeout(() => URL.revokeObjectURL(blob), 60_000)
  }
  return (
    <Ask button={t`Download…`} title={t`Download ${release.ref}`} about={t`An ordinary ZIP file of ${size(release.archive_bytes)}.`} action={t`Download`} onSubmit={submit}>
      <Field label={t`How`}>{(id) => (
        <Select id={id} value={how} onChange={(e) => setHow(e.target.value)}>
          <option value="whole"><Trans>whole</Trans></option><option value="volumes"><Trans>in volumes, with their sums</Trans></option><option value="sealed"><Trans>sealed, for people or with a passphrase</Trans></option>
        </Select>
      )}</Field>
      {how === 'volumes' && <Field label={t`Megabytes each`} hint={t`joined by: cat NAME.zip.* > NAME.zip`}>{(id, by) => <Input id={id} aria-describedby={by} name="megabytes" type="number" min={1} defaultValue={100} required />}</Field>}
      {how === 'sealed' && (
        <>
          <Field label={t`Recipients`} hint={t`age1…, one or more, with spaces between`}>{(id, by) => <Input id={id} aria-describedby={by} name="recipients" className="font-mono" />}</Field>
          <Field label={t`Or a passphrase`} hint={t`at least ten characters; tell it by another way than the file`}>{(id, by) => <Input id={id} aria-describedby={by} name="passphrase" type="password" minLength={10} autoComplete="new-password" />}</Field>
        </>
      )}
    </Ask>
  )
}
