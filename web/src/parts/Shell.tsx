import { Moon, Sun } from 'lucide-react'
import { Component, useState, type ReactNode } from 'react'
import { NavLink, Outlet, useLocation } from 'react-router'
import { useLogout, useMe, useToday } from '../api/hooks'
import { Mark } from './Mark'
import { cx, Trouble } from './basics'
import { WorkStrip } from './WorkStrip'

function Item({ to, children, n }: { to: string; children: string; n?: number }) {
  return (
    <NavLink to={to} end={to === '/'} className={({ isActive }) => cx('flex justify-between items-center h-[31px] pl-4 pr-4 border-l-[3px]',
      isActive ? 'border-leaf bg-leaf-wash font-bold text-ink' : 'border-transparent text-soft hover:text-ink')}>
      <span>{children}</span>
      {n !== undefined && <span className="font-mono text-[0.92rem] text-faint">{n}</span>}
    </NavLink>
  )
}

function Theme() {
  const dark = () => (document.documentElement.dataset.theme ?? (matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light')) === 'dark'
  const [is, set] = useState(dark)
  const flip = () => {
    const next = is ? 'light' : 'dark'
    document.documentElement.dataset.theme = next
    localStorage.setItem('theme', next)
    set(!is)
  }
  const Icon = is ? Sun : Moon
  return <button type="button" onClick={flip} aria-label={is ? 'Use the light theme' : 'Use the dark theme'} className="p-1 text-soft hover:text-ink"><Icon size={15} aria-hidden /></button>
}

/** A page that cannot be drawn says so, and leaves the others alone. */
class Guard extends Component<{ children: ReactNode }, { error: Error | null }> {
  state = { error: null }
  static getDerivedStateFromError = (error: Error) => ({ error })
  render() {
    if (!this.state.error) return this.props.children
    return <><Trouble error={this.state.error} /><p>This page could not be drawn. Reload it; if that does not help, the log of the service may say more.</p></>
  }
}

export function Shell() {
  const { pathname } = useLocation()
  const today = useToday().data
  const me = useMe().data
  const logout = useLogout()
  return (
    <div className="min-h-screen grid grid-cols-[184px_1fr] grid-rows-[1fr_auto]">
      <a href="#page" className="sr-only focus:not-sr-only focus:absolute focus:p-2 focus:bg-sheet">Skip to the page</a>
      <nav aria-label="Main" className="border-r border-line flex flex-col sticky top-0 h-[calc(100vh-34px)]">
        <div className="flex items-center gap-2.5 px-4 h-14 font-bold text-[1.1rem]"><Mark />Nest Seed</div>
        <Item to="/" n={today?.attention.length}>Today</Item>
        <Item to="/sources" n={today?.sources}>Sources</Item>
        <Item to="/starters" n={today?.starters}>Starters</Item>
        <Item to="/clients" n={today?.clients}>Clients</Item>
        <Item to="/sites" n={today?.sites}>Sites</Item>
        <Item to="/runs">Runs</Item>
        <div className="mt-auto" />
        <Item to="/hosts" n={today?.hosts}>Hosts</Item>
        <Item to="/vault">Vault</Item>
        <div className="flex items-center justify-between pl-[19px] pr-3 py-2 border-t border-line mt-2 text-soft">
          <span title={me?.role}>{me?.name}</span>
          <span className="flex items-center gap-1"><Theme /><button type="button" className="hover:text-ink underline underline-offset-2" onClick={() => logout.mutate()}>Log out</button></span>
        </div>
      </nav>
      <main id="page" className="px-6 py-4 min-w-0 max-w-[1500px]"><Guard key={pathname}><Outlet /></Guard></main>
      <WorkStrip />
    </div>
  )
}
