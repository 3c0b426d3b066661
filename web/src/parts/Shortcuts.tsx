import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useEffect, useRef, useState, type ReactNode } from 'react'
import { useNavigate } from 'react-router'
import { Window } from './Dialog'

const places: Record<string, [string, string]> = {
  t: ['/', t`Today`], o: ['/sources', t`Sources`], a: ['/starters', t`Starters`], c: ['/clients', t`Clients`], s: ['/sites', t`Sites`], r: ['/runs', t`Runs`],
  h: ['/hosts', t`Hosts`], k: ['/kinds', t`Kinds`], p: ['/people', t`People`], v: ['/vault', t`Vault`],
}

const inText = (e: KeyboardEvent) => e.target instanceof HTMLElement && (e.target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(e.target.tagName))

/** Keys for what is done often, and the sheet that lists them. */
export function Shortcuts({ onPalette }: { onPalette: () => void }) {
  const go = useNavigate()
  const [sheet, setSheet] = useState(false)
  const leader = useRef(0)
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === 'k') {
        e.preventDefault()
        onPalette()
        return
      }
      if (e.ctrlKey || e.metaKey || e.altKey || inText(e) || document.querySelector('[role=dialog]')) return
      const place = places[e.key]
      if (Date.now() - leader.current < 1200 && place) {
        leader.current = 0
        e.preventDefault()
        void go(place[0])
      } else if (e.key === 'g') leader.current = Date.now()
      else if (e.key === 'n') void go('/sites/new')
      else if (e.key === '/') {
        const field = document.querySelector<HTMLInputElement>('[data-find]')
        if (field) {
          e.preventDefault()
          field.focus()
        }
      } else if (e.key === '?') setSheet(true)
    }
    window.addEventListener('keydown', press)
    return () => window.removeEventListener('keydown', press)
  }, [go, onPalette])
  return (
    <Window open={sheet} onOpenChange={setSheet} title={t`Keys`} about={t`They work wherever no text is being typed.`}>
      <dl className="grid grid-cols-[7rem_1fr] gap-y-1">
        <Key keys="Ctrl K"><Trans>go to anything, or begin something</Trans></Key>
        <Key keys="/"><Trans>find in this list</Trans></Key>
        <Key keys="n"><Trans>make a site</Trans></Key>
        {Object.entries(places).map(([key, [, label]]) => <Key key={key} keys={`g ${key}`}>{label}</Key>)}
        <Key keys="?"><Trans>this sheet</Trans></Key>
        <Key keys="Esc"><Trans>close what is open; what was typed is kept</Trans></Key>
      </dl>
    </Window>
  )
}

const Key = ({ keys, children }: { keys: string; children: ReactNode }) => (
  <><dt className="font-mono">{keys}</dt><dd>{children}</dd></>
)
