import { useState, type FormEvent } from 'react'
import type { Schemas } from '../../api/client'
import { useAgency, useMe, useSetAgency } from '../../api/hooks'
import { Button } from '../../parts/Button'
import { text } from '../../parts/Dialog'
import { Field, TextField, Tick } from '../../parts/Field'
import { Head } from '../../parts/Head'
import { Shown, Trouble } from '../../parts/Says'
import { ClientSheet } from '../handover/ClientSheet'

/** What clients see of the agency, beside what it looks like to them. */
export function Settings() {
  const agency = useAgency()
  return (
    <>
      <Head title="Settings" facts="What clients see of the agency when a site is handed over." />
      <Shown of={agency}>{(a) => <Form key={JSON.stringify(a)} agency={a} />}</Shown>
    </>
  )
}

/** The bytes of a file in base64, as JSON carries them. */
const bytesOf = (file: File) => new Promise<string>((done, failed) => {
  const reader = new FileReader()
  reader.onload = () => done(String(reader.result).split(',')[1] ?? '')
  reader.onerror = () => failed(new Error('The picture cannot be read.'))
  reader.readAsDataURL(file)
})

function Form({ agency }: { agency: Schemas['Agency'] }) {
  const set = useSetAgency()
  const owner = useMe().data?.role === 'owner'
  const [shown, setShown] = useState(agency)
  const [logo, setLogo] = useState<File | null>(null)
  const submit = async (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault()
    const f = new FormData(e.currentTarget)
    await set.mutateAsync({
      name: text(f, 'name'), contact: text(f, 'contact'), colour: shown.colour || undefined, logo: logo ? await bytesOf(logo) : undefined, no_logo: f.get('no_logo') !== null || undefined,
    })
  }
  return (
    <div className="grid lg:grid-cols-[minmax(0,26rem)_minmax(0,1fr)] gap-6 items-start">
      <form className="grid gap-3" onSubmit={(e) => void submit(e).catch(() => {})}>
        <fieldset disabled={!owner} className="grid gap-3">
          <TextField label="Agency" name="name" maxLength={120} defaultValue={agency.name} onChange={(e) => setShown({ ...shown, name: e.target.value })} />
          <TextField label="Contact for clients" name="contact" maxLength={300} defaultValue={agency.contact} hint="an address for mail, a number, or words" onChange={(e) => setShown({ ...shown, contact: e.target.value })} />
          <Field label="Colour" name="colour">
            {(id) => <input id={id} type="color" className="h-8 w-16 bg-sheet border border-line-strong/60 rounded" value={shown.colour || '#1c6b4f'} onChange={(e) => setShown({ ...shown, colour: e.target.value })} />}
          </Field>
          <Field label="Logo" name="logo" hint="PNG, JPEG, WebP or GIF, up to 300 kB">
            {(id, by) => <input id={id} aria-describedby={by} type="file" accept="image/png,image/jpeg,image/webp,image/gif" className="block w-full text-ink"
              onChange={(e) => { const f = e.target.files?.[0] ?? null; setLogo(f); setShown({ ...shown, logo: f ? URL.createObjectURL(f) : agency.logo }) }} />}
          </Field>
          {agency.logo && <Tick name="no_logo">Take the logo away</Tick>}
        </fieldset>
        <Trouble error={set.error} />
        {owner ? <p className="flex items-center gap-3"><Button primary type="submit" disabled={set.isPending}>Save</Button>{set.isSuccess && <span role="status" className="text-leaf-strong">Saved.</span>}</p>
          : <p className="text-soft">An owner can change this.</p>}
      </form>
      <section>
        <h2 className="font-bold text-[1.05rem] mb-2">What a client sees</h2>
        <ClientSheet sheet={{ ...example, agency: shown }} />
      </section>
    </div>
  )
}

const example: Schemas['Sheet'] = {
  site: 'alder-valley', title: 'Alder Valley Music School', address: 'https://aldervalley.example', login_at: 'https://aldervalley.example/login', login: 'alder-valley-admin', held: false, visible: true,
  values: [], tasks: [], to_do: ['Change the password to one that only you know, in your profile.'], made_at: new Date().toISOString(), agency: { name: '', contact: '', colour: '' },
}
