import { Command } from 'cmdk'
import { useDeferredValue, useState } from 'react'
import { useNavigate } from 'react-router'
import { useClientPage, useHosts, useKinds, useSitePage, useSources, useStarters } from '../api/hooks'

type Goal = { to: string; label: string; beside?: string }

const pages: Goal[] = [
  { to: '/', label: 'Today' }, { to: '/sources', label: 'Sources' }, { to: '/starters', label: 'Starters' }, { to: '/clients', label: 'Clients' },
  { to: '/sites', label: 'Sites' }, { to: '/runs', label: 'Runs' }, { to: '/hosts', label: 'Hosts' }, { to: '/kinds', label: 'Kinds' },
  { to: '/people', label: 'People' }, { to: '/vault', label: 'Vault' }, { to: '/settings', label: 'Settings' }, { to: '/parts', label: 'Parts of the console' },
]

const acts: Goal[] = [
  { to: '/sites/new', label: 'Make a site' }, { to: '/sites/table', label: 'Make sites from a table' },
  { to: '/sites?state=failed', label: 'Show sites with faults' }, { to: '/sites?state=held', label: 'Show sites that are held' },
  { to: '/runs?status=failed', label: 'Show runs that failed' },
]

const itemLook = 'px-4 h-8 flex items-center gap-3 data-[selected=true]:bg-leaf-wash cursor-pointer'
const groupLook = '[&_[cmdk-group-heading]]:px-4 [&_[cmdk-group-heading]]:pt-2 [&_[cmdk-group-heading]]:text-faint'

/** Goes to anything by its name, or begins something. */
export function Palette({ open, onOpenChange }: { open: boolean; onOpenChange: (open: boolean) => void }) {
  const go = useNavigate()
  const [typed, type] = useState('')
  const find = useDeferredValue(typed.trim())
  const sites = useSitePage({ find, limit: 8 }, open && find !== '')
  const clients = useClientPage({ find, limit: 8 }, open && find !== '')
  const starters = useStarters(open).data ?? []
  const sources = useSources(open).data ?? []
  const hosts = useHosts(open).data ?? []
  const kinds = useKinds(open).data ?? []
  const fits = (g: Goal) => `${g.label} ${g.beside ?? ''}`.toLowerCase().includes(find.toLowerCase())
  const groups: [string, Goal[]][] = [
    ['Go to', pages.filter(fits)],
    ['Do', acts.filter(fits)],
    ['Sites', (sites.data?.sites ?? []).map((s) => ({ to: `/sites/${s.name}`, label: s.title || s.name, beside: s.address }))],
    ['Clients', (clients.data?.clients ?? []).map((c) => ({ to: `/clients/${c.name}`, label: c.title || c.name, beside: c.name }))],
    ['Starters', starters.map((t) => ({ to: `/starters/${t.name}`, label: t.name })).filter(fits)],
    ['Sources', sources.map((s) => ({ to: `/sources/${s.name}`, label: s.name, beside: s.address })).filter(fits)],
    ['Hosts', hosts.map((h) => ({ to: `/hosts/${h.name}`, label: h.name, beside: h.files })).filter(fits)],
    ['Kinds', kinds.map((k) => ({ to: `/kinds/${k.name}`, label: k.title, beside: k.name })).filter(fits)],
  ]
  return (
    <Command.Dialog open={open} onOpenChange={(o) => { onOpenChange(o); if (!o) type('') }} label="Go to anything, or begin something" shouldFilter={false}
      overlayClassName="fixed inset-0 bg-black/40 z-40"
      contentClassName="fixed z-50 left-1/2 top-[10vh] -translate-x-1/2 w-[min(36rem,94vw)] bg-sheet border border-line-strong rounded-md overflow-hidden">
      <Command.Input value={typed} onValueChange={type} placeholder="A site, a client, a page, something to do"
        className="w-full h-11 px-4 bg-sheet text-ink placeholder:text-faint border-b border-line outline-none" />
      <Command.List className="max-h-[60vh] overflow-auto py-1">
        <Command.Empty className="px-4 py-3 text-soft">Nothing has that name.</Command.Empty>
        {groups.filter(([, goals]) => goals.length > 0 && (find !== '' || goals === groups[0]![1] || goals === groups[1]![1])).map(([heading, goals]) => (
          <Command.Group key={heading} heading={heading} className={groupLook}>
            {goals.map((g) => (
              <Command.Item key={g.to} value={g.to} onSelect={() => { onOpenChange(false); void go(g.to) }} className={itemLook}>
                <span className="font-semibold truncate">{g.label}</span>
                {g.beside && <span className="font-mono text-soft truncate ml-auto">{g.beside.replace(/^https?:\/\//, '')}</span>}
              </Command.Item>
            ))}
          </Command.Group>
        ))}
      </Command.List>
    </Command.Dialog>
  )
}
