import { i18n } from '@lingui/core'
import { I18nProvider } from '@lingui/react'
import { QueryClientProvider } from '@tanstack/react-query'
import { StrictMode, type ComponentType } from 'react'
import { createRoot } from 'react-dom/client'
import { createBrowserRouter, RouterProvider } from 'react-router'
import { connection } from './api/connection'
import { queries } from './api/queries'
import { Console } from './Console'
import { Shell } from './parts/Shell'

const theme = localStorage.getItem('theme')
if (theme) document.documentElement.dataset.theme = theme

/** A page that is a file of its own, read when it is gone to: when the service is away, once it is back. */
const page = <K extends string>(read: () => Promise<Record<K, ComponentType>>, name: K) => async () => {
  try {
    return { Component: (await read())[name] }
  } catch {
    await connection.back()
    return { Component: (await read())[name] }
  }
}

const router = createBrowserRouter([
  { path: 'handover', lazy: page(() => import('./pages/handover/Handover'), 'Handover') },
  {
    Component: Console,
    HydrateFallback: () => null,
    children: [{
      Component: Shell,
      children: [
        { index: true, lazy: page(() => import('./pages/today/Today'), 'Today') },
        { path: 'sources', lazy: page(() => import('./pages/sources/Sources'), 'Sources') },
        { path: 'sources/:name', lazy: page(() => import('./pages/sources/SourcePage'), 'SourcePage') },
        { path: 'starters', lazy: page(() => import('./pages/starters/Starters'), 'Starters') },
        { path: 'starters/:name', lazy: page(() => import('./pages/starters/StarterPage'), 'StarterPage') },
        { path: 'starters/:name/packing', lazy: page(() => import('./pages/packing/PackingPage'), 'PackingPage') },
        { path: 'releases/:release', lazy: page(() => import('./pages/releases/ReleasePage'), 'ReleasePage') },
        { path: 'comparisons/:id', lazy: page(() => import('./pages/releases/ComparisonPage'), 'ComparisonPage') },
        { path: 'clients', lazy: page(() => import('./pages/clients/Clients'), 'Clients') },
        { path: 'clients/:name', lazy: page(() => import('./pages/clients/ClientPage'), 'ClientPage') },
        { path: 'sites', lazy: page(() => import('./pages/sites/Sites'), 'Sites') },
        { path: 'sites/new', lazy: page(() => import('./pages/sites/MakeSite'), 'MakeSite') },
        { path: 'sites/table', lazy: page(() => import('./pages/sites/MakeTable'), 'MakeTable') },
        { path: 'sites/:name', lazy: page(() => import('./pages/sites/SitePage'), 'SitePage') },
        { path: 'sites/:name/side-by-side', lazy: page(() => import('./pages/sites/SideBySide'), 'SideBySide') },
        { path: 'sites/:name/sheet', lazy: page(() => import('./pages/handover/SheetPage'), 'SheetPage') },
        { path: 'runs', lazy: page(() => import('./pages/runs/Runs'), 'Runs') },
        { path: 'runs/:id', lazy: page(() => import('./pages/runs/RunPage'), 'RunPage') },
        { path: 'hosts', lazy: page(() => import('./pages/hosts/Hosts'), 'Hosts') },
        { path: 'hosts/:name', lazy: page(() => import('./pages/hosts/HostPage'), 'HostPage') },
        { path: 'installs/:name', lazy: page(() => import('./pages/installs/InstallPage'), 'InstallPage') },
        { path: 'kinds', lazy: page(() => import('./pages/kinds/Kinds'), 'Kinds') },
        { path: 'kinds/:name', lazy: page(() => import('./pages/kinds/KindPage'), 'KindPage') },
        { path: 'people', lazy: page(() => import('./pages/people/People'), 'People') },
        { path: 'settings', lazy: page(() => import('./pages/settings/Settings'), 'Settings') },
        { path: 'vault', lazy: page(() => import('./pages/vault/Vault'), 'Vault') },
        { path: 'parts', lazy: page(() => import('./pages/parts/Parts'), 'Parts') },
        { path: '*', lazy: page(() => import('./pages/Nothing'), 'Nothing') },
      ],
    }],
  },
])

/** Draws the console, in the language that has been settled. */
export function draw(at: HTMLElement) {
  createRoot(at).render(
    <StrictMode>
      <I18nProvider i18n={i18n}>
        <QueryClientProvider client={queries}><RouterProvider router={router} /></QueryClientProvider>
      </I18nProvider>
    </StrictMode>,
  )
}
