import { t } from '@lingui/core/macro'
import { useAddClient } from '../../api/hooks'
import { useHeld } from '../../lib/drafts'
import type { Table } from '../../lib/table'
import { Ask } from '../../parts/Dialog'
import { TableField } from '../../parts/TableField'

const sample = [['name', 'title', 'email'], ['alder-valley', 'Alder Valley Music School', 'office@aldervalley.example']]

/** Adds many clients at once; those that cannot be added are named, and the others are there. */
export function ImportClients() {
  const add = useAddClient()
  const [table, setTable] = useHeld<Table | null>('clients to add', null)
  const submit = async () => {
    const wrong: string[] = []
    const left: Table['rows'] = []
    for (const row of table!.rows) {
      const { name = '', ...settings } = row
      try {
        await add.mutateAsync({ name, settings: Object.fromEntries(Object.entries(settings).filter(([, v]) => v !== '')) })
      } catch (e) {
        wrong.push(`${name}: ${(e as Error).message}`)
        left.push(row)
      }
    }
    setTable(left.length > 0 ? { ...table!, rows: left } : null) // the same again tries those that are left
    if (wrong.length > 0) throw new Error(t`${table!.rows.length - wrong.length} of ${table!.rows.length} were added. ${wrong.join(' ')}`)
  }
  return (
    <Ask button={t`From a table…`} title={t`Add clients from a table`} action={table ? t`Add ${table.rows.length}` : t`Add them`} ready={table !== null} onSubmit={submit}
      about={t`A column “name”, and one for each setting, like title, email, phone.`}>
      <TableField label={t`Table`} need="name" sample={sample} onTable={setTable} given={table} />
    </Ask>
  )
}
