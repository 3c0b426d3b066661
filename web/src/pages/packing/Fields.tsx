import { plural, t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useDeferredValue, useState } from 'react'
import type { Schemas } from '../../api/client'
import { useSourceValues } from '../../api/hooks'
import { Button } from '../../parts/Button'
import { Window } from '../../parts/Dialog'
import { Field, Input, SelectField, TextField, Tick } from '../../parts/Field'
import { Empty, Shown } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { keyFor, placeText, type NewField } from './fields'

const types = ['text', 'long-text', 'email', 'number', 'colour', 'image', 'file', 'page', 'menu-entry'].map((value) => ({ value }))

/** The fields of a packing list, where each value goes, and a way to add one by looking into the source. */
export function Fields({ fields, source, onAdd }: { fields: Schemas['Field'][]; source: string; onAdd: (f: NewField) => void }) {
  const [open, setOpen] = useState(false)
  return (
    <Sheet title={t`Fields`} aside={source && <Button small onClick={() => setOpen(true)}><Trans>Add a field…</Trans></Button>}>
      {fields.length === 0 ? <Empty><Trans>None: each site gets what the source has.</Trans></Empty> : (
        <ul className="px-4 pb-3 grid gap-1">{fields.map((f) => (
          <li key={f.key} className="break-words"><b>{f.label || f.key}</b>{f.required && t`, required`} <span className="text-soft">→ {f.to.map((target) => (target.token ? `text ${target.token}` : placeText(target))).join(', ')}</span></li>
        ))}</ul>
      )}
      <Window open={open} onOpenChange={setOpen} title={t`Add a field`} about={t`Choose the value that each client has its own of.`}>
        {open && <Picker source={source} taken={fields.map((f) => f.key)} onAdd={(f) => { setOpen(false); onAdd(f) }} />}
      </Window>
    </Sheet>
  )
}

function Picker({ source, taken, onAdd }: { source: string; taken: string[]; onAdd: (f: NewField) => void }) {
  const [find, setFind] = useState('')
  const [option, setOption] = useState('')
  const [place, setPlace] = useState<Schemas['SourceValue']>()
  const values = useSourceValues(source, option, useDeferredValue(find), !place)
  if (place) return <Describe place={place} taken={taken} onBack={() => setPlace(undefined)} onAdd={onAdd} />
  return (
    <div className="grid gap-3">
      <div className="flex gap-2 items-end">
        <div className="flex-1"><Field label={option ? t`Find inside ${option}` : t`Find by name or by what it says`} name="find-value">{(id) => <Input id={id} value={find} onChange={(e) => setFind(e.target.value)} />}</Field></div>
        {option && <Button onClick={() => { setOption(''); setFind('') }}><Trans>All options</Trans></Button>}
      </div>
      <Shown of={values}>{(all) => all.values.length === 0 ? <Empty><Trans>Nothing of the source has these words.</Trans></Empty> : (
        <ul aria-label={t`Values of the source`} className="max-h-[45vh] overflow-auto border border-line rounded">
          {all.values.map((v) => (
            <li key={placeText(v)} className="border-b border-line last:border-0">
              <button type="button" className="w-full text-left px-3 py-1.5 hover:bg-leaf-wash" onClick={() => { if (v.inside) { setOption(v.option!); setFind('') } else setPlace(v) }}>
                <span className="font-mono break-all">{placeText(v)}</span>
                <span className="block text-soft truncate">{v.inside ? t`${plural(v.inside, { one: '# value', other: '# values' })} inside` : v.secret ? t`secret` : v.text || t`empty`}</span>
              </button>
            </li>
          ))}
          {all.more && <li className="px-3 py-1.5 text-soft"><Trans>There are others: narrow it with words.</Trans></li>}
        </ul>
      )}</Shown>
    </div>
  )
}

function Describe({ place, taken, onBack, onAdd }: { place: Schemas['SourceValue']; taken: string[]; onBack: () => void; onAdd: (f: NewField) => void }) {
  const [fault, setFault] = useState('')
  return (
    <form className="grid gap-3" onSubmit={(e) => {
      e.preventDefault()
      const form = new FormData(e.currentTarget)
      const key = String(form.get('key'))
      if (taken.includes(key)) setFault(t`there is a field ${key} already`)
      else onAdd({ key, label: String(form.get('label')), type: String(form.get('type')), required: form.has('required'), place })
    }}>
      <p>{place.text ? <Trans>Each client’s value goes to <b className="font-mono break-all">{placeText(place)}</b>, where the source has “{place.text}”.</Trans>
        : <Trans>Each client’s value goes to <b className="font-mono break-all">{placeText(place)}</b>.</Trans>}</p>
      <TextField label={t`Name`} name="key" required pattern="[a-z0-9][a-z0-9_.\\-]*" defaultValue={keyFor(place)} mono hint={fault || t`as clients’ settings and tables call it`} />
      <TextField label={t`What people read`} name="label" required defaultValue={keyFor(place).replace(/_/g, ' ').replace(/^./, (c) => c.toUpperCase())} />
      <SelectField label={t`What it is`} name="type" choices={types} />
      <Tick name="required"><Trans>No site is made without it</Trans></Tick>
      <div className="flex justify-end gap-2"><Button onClick={onBack}><Trans>Back</Trans></Button><Button primary type="submit"><Trans>Add the field</Trans></Button></div>
    </form>
  )
}
