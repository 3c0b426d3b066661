import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { CornerLeftUp, Folder, FolderCheck } from 'lucide-react'
import { useState } from 'react'
import { useFolders, useKinds } from '../api/hooks'
import { Button } from './Button'
import { Input } from './Field'
import { Loading, Trouble } from './Says'

type PickerProps = { host: string; name: string; id: string; value: string; optional?: boolean; onPick: (path: string) => void }

/** A folder of a host, typed or looked for; those that look like a site say so. */
export function FolderPicker({ host, name, id, value, optional, onPick }: PickerProps) {
  const [open, setOpen] = useState(false)
  const [at, setAt] = useState('')
  const folders = useFolders(host, at, open && host !== '')
  const kinds = useKinds(open).data ?? []
  const inside = (folder: string) => (at ? `${at}/${folder}` : folder)
  const up = at.includes('/') ? at.slice(0, at.lastIndexOf('/')) : ''
  return (
    <div>
      <div className="flex gap-2">
        <Input id={id} name={name} required={!optional} className="font-mono" value={value} onChange={(e) => onPick(e.target.value)} />
        <Button aria-expanded={open} disabled={!host} onClick={() => setOpen(!open)}><Trans>Look for it</Trans></Button>
      </div>
      {open && (
        <div className="mt-2 border border-line rounded">
          <p className="flex items-center gap-2 px-3 h-8 border-b border-line font-mono">
            <Button small disabled={!at} aria-label={t`One folder up`} onClick={() => setAt(up)}><CornerLeftUp size={12} aria-hidden /></Button>
            <span className="truncate">{host}:/{at}</span>
          </p>
          {folders.isPending && <Loading />}
          <div className="px-3"><Trouble error={folders.error} /></div>
          {folders.data && (
            <ul className="max-h-56 overflow-auto py-1" aria-label={t`Folders in ${at || host}`}>
              {folders.data.folders.length === 0 && <li className="px-3 text-soft"><Trans>No folders are in here.</Trans></li>}
              {folders.data.folders.map((f) => (
                <li key={f.name} className="flex items-center gap-2 px-3 h-7 hover:bg-leaf-wash/60">
                  {f.kind ? <FolderCheck size={14} className="text-leaf shrink-0" aria-hidden /> : <Folder size={14} className="text-faint shrink-0" aria-hidden />}
                  <button type="button" className="font-mono truncate text-left flex-1 hover:underline" onClick={() => setAt(inside(f.name))}>{f.name}</button>
                  {f.kind && <span className="text-soft">{kinds.find((k) => k.name === f.kind)?.title ?? f.kind}</span>}
                  <Button small onClick={() => { onPick(inside(f.name)); setOpen(false) }}><Trans>Take it</Trans></Button>
                </li>
              ))}
              {folders.data.more && <li className="px-3 text-soft"><Trans>There are more; type the rest of the path.</Trans></li>}
            </ul>
          )}
        </div>
      )}
    </div>
  )
}
