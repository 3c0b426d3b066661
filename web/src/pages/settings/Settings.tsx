import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useState, type FormEvent } from 'react'
import type { Schemas } from '../../api/client'
import { useAgency, useMe, useSetAgency } from '../../api/hooks'
import { base64 } from '../../lib/files'
import { useAskBeforeClosing, useDraft, useHeld } from '../../lib/drafts'
import { Button } from '../../parts/Button'
import { text } from '../../parts/Dialog'
import { FileBox, Field, TextField, Tick } from '../../parts/Field'
import { Head } from '../../parts/Head'
import { Shown, Trouble } from '../../parts/Says'
import { ClientSheet } from '../handover/ClientSheet'

/** What clients see of the agency, beside what it looks like to them. */
export function Settings() {
  const agency = useAgency()
  return (
    <>
      <Head title={t`Settings`} facts={t`What clients see of the agency when a site is handed over.`} />
      <Shown of={agency}>{(a) => <Form agency={a} />}</Shown>
    </>
  )
}

type Typed = Partial<Pick<Schemas['Agency'], 'name' | 'contact' | 'colour'>>

type Logo = { file: File; seen: string }

const nothing: Typed = {}

function Form({ agency }: { agency: Schemas['Agency'] }) {
  const set = useSetAgency()
  const owner = useMe().data?.role === 'owner'
  const [typed, setTyped, draft] = useDraft<Typed>('settings', nothing)
  const [logo, setLogo] = useHeld<Logo | null>('logo of the agency', null)
  const [turn, setTurn] = useState(0) // of the field for the logo, which is empty when it was saved or discarded
  const [error, setError] = useState<Error | null>(null)
  useAskBeforeClosing(logo !== null)
  const shown = { ...agency, ...typed, logo: logo?.seen ?? agency.logo }
  const type = (part: Typed) => setTyped((was) => ({ ...was, ...part }))
  const discard = () => {
    draft.drop()
    setLogo(null)
    setTurn((before) => before + 1)
  }
  const submit = async (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault()
    const f = new FormData(e.currentTarget)
    setError(null)
    try {
      await set.mutateAsync({
        name: text(f, 'name'), contact: text(f, 'contact'), colour: shown.colour || undefined, logo: logo ? await base64(logo.file) : undefined, no_logo: f.get('no_logo') !== null || undefined,
      })
      discard()
    } catch (e) {
      setError(e as Error)
    }
  }
  return (
    <div className="grid lg:grid-cols-[minmax(0,26rem)_minmax(0,1fr)] gap-6 items-start">
      <form className="grid gap-3" onSubmit={(e) => void submit(e)}>
        <fieldset disabled={!owner} className="grid gap-3">
          <TextField label={t`Agency`} name="name" maxLength={120} value={shown.name} onChange={(e) => type({ name: e.target.value })} />
          <TextField label={t`Contact for clients`} name="contact" maxLength={300} value={shown.contact} hint={t`an address for mail, a number, or words`} onChange={(e) => type({ contact: e.target.value })} />
          <Field label={t`Colour`} name="colour">
            {(id) => <input id={id} type="color" className="h-8 w-16 bg-sheet border border-line-strong/60 rounded" value={shown.colour || '#1c6b4f'} onChange={(e) => type({ colour: e.target.value })} />}
          </Field>
          <Field label={t`Logo`} name="logo" hint={t`PNG, JPEG, WebP or GIF, up to 300 kB`}>
            {(id, by) => <FileBox key={turn} id={id} aria-describedby={by} chosen={logo ? [logo.file] : []} accept="image/png,image/jpeg,image/webp,image/gif"
              onChange={(e) => { const file = e.target.files?.[0]; setLogo(file ? { file, seen: URL.createObjectURL(file) } : null) }} />}
          </Field>
          {agency.logo && <Tick name="no_logo"><Trans>Take the logo away</Trans></Tick>}
        </fieldset>
        <Trouble error={error} />
        {owner ? <p className="flex items-center gap-3"><Button primary type="submit" disabled={set.isPending}><Trans>Save</Trans></Button>{(draft.kept || logo) && <Button onClick={discard}><Trans>Discard</Trans></Button>}{set.isSuccess && !draft.kept && !logo && <span role="status" className="text-leaf-strong"><Trans>Saved.</Trans></span>}</p>
          : <p className="text-soft"><Trans>An owner can change this.</Trans></p>}
      </form>
      <section>
        <h2 className="font-bold text-[1.05rem] mb-2"><Trans>What a client sees</Trans></h2>
        <ClientSheet sheet={{ ...example, agency: shown }} />
      </section>
    </div>
  )
}

const example: Schemas['Sheet'] = {
  site: 'alder-valley', title: t`Alder Valley Music School`, address: 'https://aldervalley.example', login_at: 'https://aldervalley.example/login', login: 'alder-valley-admin', held: false, visible: true,
  values: [], tasks: [], to_do: [t`Change the password to one that only you know, in your profile.`], made_at: new Date().toISOString(), agency: { name: '', contact: '', colour: '' },
}
