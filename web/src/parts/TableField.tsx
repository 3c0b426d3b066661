import { plural, t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useState } from 'react'
import { textOf } from '../lib/files'
import { readTable, saveTable, type Table } from '../lib/table'
import { Button } from './Button'
import { Field, FileBox, Textarea } from './Field'
import { Trouble } from './Says'

type TableFieldProps = { label: string; need: string; sample: string[][]; onTable: (table: Table | null) => void; given?: Table | null }

const sentence = (table: Table, from: string) => t`${plural(table.rows.length, { one: '# row', other: '# rows' })} from ${from}: ${table.heads.join(', ')}`

/** A table: from a file, or pasted out of a spreadsheet; with a sample to fill in. */
export function TableField({ label, need, sample, onTable, given }: TableFieldProps) {
  const [error, setError] = useState<Error | null>(null)
  const [said, setSaid] = useState(given ? sentence(given, t`what was given before`) : '')
  const [pasted, setPasted] = useState('')
  const take = (text: string, from: string) => {
    setError(null)
    setSaid('')
    onTable(null)
    if (text.trim() === '') return
    try {
      const table = readTable(text, need)
      setSaid(sentence(table, from))
      onTable(table)
    } catch (e) {
      setError(e as Error)
    }
  }
  return (
    <div className="grid gap-2">
      <Field label={label} hint={t`comma-separated values; the first line names the columns`}>
        {(id, by) => (
          <FileBox id={id} aria-describedby={by} accept=".csv,.tsv,text/csv"
            onChange={(e) => { const f = e.target.files?.[0]; if (f) void textOf(f).then((text) => { setPasted(''); take(text, f.name) }).catch(setError) }} />
        )}
      </Field>
      <Field label={t`Or paste it`}>
        {(id) => <Textarea id={id} rows={4} className="font-mono" value={pasted} spellCheck={false} onChange={(e) => { setPasted(e.target.value); take(e.target.value, t`what was pasted`) }} />}
      </Field>
      <p className="flex items-center gap-2 text-soft"><Button small onClick={() => saveTable('sample.csv', sample)}><Trans>Save a sample</Trans></Button>{said}</p>
      <Trouble error={error} />
    </div>
  )
}
