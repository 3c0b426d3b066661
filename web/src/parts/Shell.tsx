import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { Component, lazy, Suspense, useCallback, useState, type ReactNode } from 'react'
import { NavLink, Outlet, useLocation } from 'react-router'
import { useLogout, useMe, useToday } from '../api/hooks'
import { cx } from './cx'
import { Mark } from './Mark'
import { Notices, useProgressInTitle } from './Notices'
import { PageFocus } from './PageFocus'
import { Loading, Trouble } from './Says'
import { Shortcuts } from './Shortcuts'
import { Standing } from './Standing'
import { Theme } from './Theme'
import { WorkStrip } from './WorkStrip'

// Read when it is opened first.
const Palette = lazy(async () => ({ default: (await import('./Palette')).Palette }))

function Item({ to, children, n }: { to: string; children: ReactNode; n?: number }) {
  return (
    <NavLink to={to} end={to === '/'} className={({ isActive }) => cx('flex justify-between items-center h-[31px] pl-4 pr-4 border-l-[3px]',
      isActive ? 'border-leaf bg-leaf-wash font-bold text-ink' : 'border-transparent text-soft hover:text-ink')}>
      <span>{children}</span>
      {n !== undefined && <span className="font-mono text-[0.92rem] text-faint">{n}</span>}
    </NavLink>
  )
}

/** A page that cannot be drawn says so, and leaves the others alone. */
class Guard extends Component<{ children: ReactNode }, { error: Error | null }> {
  state = { error: null }
  static getDerivedStateFromError = (error: Error) => ({ error })
  render() {
    if (!this.state.error) return this.props.children
    return <><Trouble error={this.state.error} /><p><Trans>This page could not be drawn. Reload it; if that does not help, the log of the service may say more.</Trans></p></>
  }
}

function Navigation() {
  const today = useToday().data
  const me = useMe().data
  const logout = useLogout()
  const due = today && today.groups.length + today.tasks.filter((task) => task.due && Date.parse(task.due) < Date.now()).length
  return (
    <nav aria-label={t`Main`} className="border-r border-line flex flex-col sticky top-0 h-[calc(100vh-34px)] overflow-y-auto print:hidden">
      <div className="flex items-center gap-2.5 px-4 h-14 shrink-0 font-bold text-[1.1rem]"><Mark />Nest Seed</div>
      <Item to="/" n={due}><Trans>Today</Trans></Item>
      <Item to="/sources" n={today?.sources}><Trans>Sources</Trans></Item>
      <Item to="/starters" n={today?.starters}><Trans>Starters</Trans></Item>
      <Item to="/clients" n={today?.clients}><Trans>Clients</Trans></Item>
      <Item to="/sites" n={today?.sites}><Trans>Sites</Trans></Item>
      <Item to="/runs"><Trans>Runs</Trans></Item>
      <div className="mt-auto" />
      <Item to="/hosts" n={today?.hosts}><Trans>Hosts</Trans></Item>
      <Item to="/kinds"><Trans>Kinds</Trans></Item>
      <Item to="/people"><Trans>People</Trans></Item>
      <Item to="/vault"><Trans>Vault</Trans></Item>
      <Item to="/settings"><Trans>Settings</Trans></Item>
      <div className="flex items-center justify-between pl-[19px] pr-3 py-2 border-t border-line mt-2 text-soft">
        <NavLink to="/people" title={t`${me?.role ?? ''}; password and tokens`} className="hover:text-ink truncate">{me?.name}</NavLink>
        <span className="flex items-center gap-1">
          <Theme />
          <button type="button" className="hover:text-ink underline underline-offset-2" onClick={() => logout.mutate()}><Trans>Log out</Trans></button>
        </span>
      </div>
    </nav>
  )
}

export function Shell() {
  const { pathname } = useLocation()
  const [palette, setPalette] = useState(false)
  const openPalette = useCallback(() => setPalette(true), [])
  useProgressInTitle()
  return (
    <div className="min-h-screen grid grid-cols-[152px_minmax(0,1fr)] lg:grid-cols-[184px_minmax(0,1fr)] grid-rows-[1fr_auto] print:block">
      <a href="#page" className="sr-only focus:not-sr-only focus:absolute focus:z-50 focus:p-2 focus:bg-sheet"><Trans>Skip to the page</Trans></a>
      <Navigation />
      <div className="min-w-0">
        <Standing />
        <main id="page" tabIndex={-1} className="px-4 lg:px-6 py-4 min-w-0 outline-none">
          <Guard key={pathname}><Suspense fallback={<Loading />}><Outlet /></Suspense></Guard>
        </main>
      </div>
      <WorkStrip onPalette={openPalette} />
      <PageFocus />
      <Notices />
      <Shortcuts onPalette={openPalette} />
      {palette && <Suspense><Palette open onOpenChange={setPalette} /></Suspense>}
    </div>
  )
}
