import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { Command } from 'cmdk'
import { useDeferredValue, useState } from 'react'
import { useNavigate } from 'react-router'
import { useClientPage, useHosts, useKinds, useSitePage, useSources, useStarters } from '../api/hooks'

type Goal = { to: string; label: string; beside?: string }

const pages: Goal[] = [
  { to: '/', label: t`Today` }, { to: '/sources', label: t`Sources` }, { to: '/starters', label: t`Starters` }, { to: '/clients', label: t`Clients` },
  { to: '/sites', label: t`Sites` }, { to: '/runs', label: t`Runs` }, { to: '/hosts', label: t`Hosts` }, { to: '/kinds', label: t`Kinds` },
  { to: '/people', label: t`People` }, { to: '/vault', label: t`Vault` }, { to: '/settings', label: t`Settings` }, { to: '/parts', label: t`Parts of the console` },
]

const acts: Goal[] = [
  { to: '/sites/new', label: t`Make a site` }, { to: '/sites/table', label: t`Make sites from a table` },
  { to: '/sites?state=failed', label: t`Show sites with faults` }, { to: '/sites?state=held', label: t`Show sites that are held` },
  { to: '/runs?status=failed', label: t`Show runs that failed` },
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
    [t`Go to`, pages.filter(fits)],
    [t`Do`, acts.filter(fits)],
    [t`Sites`, (sites.data?.sites ?? []).map((s) => ({ to: `/sites/${s.name}`, label: s.title || s.name, beside: s.address }))],
    [t`Clients`, (clients.data?.clients ?? []).map((c) => ({ to: `/clients/${c.name}`, label: c.title || c.name, beside: c.name }))],
    [t`Starters`, starters.map((s) => ({ to: `/starters/${s.name}`, label: s.name })).filter(fits)],
    [t`Sources`, sources.map((s) => ({ to: `/sources/${s.name}`, label: s.name, beside: s.address })).filter(fits)],
    [t`Hosts`, hosts.map((h) => ({ to: `/hosts/${h.name}`, label: h.name, beside: h.files })).filter(fits)],
    [t`Kinds`, kinds.map((k) => ({ to: `/kinds/${k.name}`, label: k.title, beside: k.name })).filter(fits)],
  ]
  return (
    <Command.Dialog open={open} onOpenChange={(o) => { onOpenChange(o); if (!o) type('') }} label={t`Go to anything, or begin something`} shouldFilter={false}
      overlayClassName="fixed inset-0 bg-black/40 z-50"
      contentClassName="fixed z-50 left-1/2 top-[10vh] -translate-x-1/2 w-[min(36rem,94vw)] bg-sheet border border-line-strong rounded-md overflow-hidden">
      <Command.Input value={typed} onValueChange={type} placeholder={t`A site, a client, a page, something to do`}
        className="w-full h-11 px-4 bg-sheet text-ink placeholder:text-faint border-b border-line outline-none" />
      <Command.List className="max-h-[60vh] overflow-auto py-1">
        <Command.Empty className="px-4 py-3 text-soft"><Trans>Nothing has that name.</Trans></Command.Empty>
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
