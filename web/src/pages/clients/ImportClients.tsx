import { useState } from 'react'
import { useAddClient } from '../../api/hooks'
import type { Table } from '../../lib/table'
import { Ask } from '../../parts/Dialog'
import { TableField } from '../../parts/TableField'

const sample = [['name', 'title', 'email'], ['alder-valley', 'Alder Valley Music School', 'office@aldervalley.example']]

/** Adds many clients at once; those that cannot be added are named, and the others are there. */
export function ImportClients() {
  const add = useAddClient()
  const [table, setTable] = useState<Table | null>(null)
  const submit = async () => {
    const wrong: string[] = []
    for (const { name = '', ...settings } of table!.rows) {
      try {
        await add.mutateAsync({ name, settings: Object.fromEntries(Object.entries(settings).filter(([, v]) => v !== '')) })
      } catch (e) {
        wrong.push(`${name}: ${(e as Error).message}`)
      }
    }
    if (wrong.length > 0) throw new Error(`${table!.rows.length - wrong.length} of ${table!.rows.length} were added. ${wrong.join(' ')}`)
  }
  return (
    <Ask button="From a table…" title="Add clients from a table" action={table ? `Add ${table.rows.length}` : 'Add them'} ready={table !== null} onSubmit={submit}
      about="A column “name”, and one for each setting, like title, email, phone.">
      <TableField label="Table" need="name" sample={sample} onTable={setTable} />
    </Ask>
  )
}
