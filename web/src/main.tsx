import { QueryClientProvider } from '@tanstack/react-query'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { createBrowserRouter, RouterProvider } from 'react-router'
import { queries } from './api/queries'
import './app.css'
import { Console } from './Console'
import { Shell } from './parts/Shell'

const theme = localStorage.getItem('theme')
if (theme) document.documentElement.dataset.theme = theme

// Each page is a file of its own, read when it is gone to.
const router = createBrowserRouter([
  { path: 'handover', lazy: async () => ({ Component: (await import('./pages/handover/Handover')).Handover }) },
  {
    Component: Console,
    HydrateFallback: () => null,
    children: [{
      Component: Shell,
      children: [
        { index: true, lazy: async () => ({ Component: (await import('./pages/today/Today')).Today }) },
        { path: 'sources', lazy: async () => ({ Component: (await import('./pages/sources/Sources')).Sources }) },
        { path: 'sources/:name', lazy: async () => ({ Component: (await import('./pages/sources/SourcePage')).SourcePage }) },
        { path: 'starters', lazy: async () => ({ Component: (await import('./pages/starters/Starters')).Starters }) },
        { path: 'starters/:name', lazy: async () => ({ Component: (await import('./pages/starters/StarterPage')).StarterPage }) },
        { path: 'starters/:name/packing', lazy: async () => ({ Component: (await import('./pages/packing/PackingPage')).PackingPage }) },
        { path: 'releases/:release', lazy: async () => ({ Component: (await import('./pages/releases/ReleasePage')).ReleasePage }) },
        { path: 'comparisons/:id', lazy: async () => ({ Component: (await import('./pages/releases/ComparisonPage')).ComparisonPage }) },
        { path: 'clients', lazy: async () => ({ Component: (await import('./pages/clients/Clients')).Clients }) },
        { path: 'clients/:name', lazy: async () => ({ Component: (await import('./pages/clients/ClientPage')).ClientPage }) },
        { path: 'sites', lazy: async () => ({ Component: (await import('./pages/sites/Sites')).Sites }) },
        { path: 'sites/new', lazy: async () => ({ Component: (await import('./pages/sites/MakeSite')).MakeSite }) },
        { path: 'sites/table', lazy: async () => ({ Component: (await import('./pages/sites/MakeTable')).MakeTable }) },
        { path: 'sites/:name', lazy: async () => ({ Component: (await import('./pages/sites/SitePage')).SitePage }) },
        { path: 'sites/:name/side-by-side', lazy: async () => ({ Component: (await import('./pages/sites/SideBySide')).SideBySide }) },
        { path: 'sites/:name/sheet', lazy: async () => ({ Component: (await import('./pages/handover/SheetPage')).SheetPage }) },
        { path: 'runs', lazy: async () => ({ Component: (await import('./pages/runs/Runs')).Runs }) },
        { path: 'runs/:id', lazy: async () => ({ Component: (await import('./pages/runs/RunPage')).RunPage }) },
        { path: 'hosts', lazy: async () => ({ Component: (await import('./pages/hosts/Hosts')).Hosts }) },
        { path: 'hosts/:name', lazy: async () => ({ Component: (await import('./pages/hosts/HostPage')).HostPage }) },
        { path: 'installs/:name', lazy: async () => ({ Component: (await import('./pages/installs/InstallPage')).InstallPage }) },
        { path: 'kinds', lazy: async () => ({ Component: (await import('./pages/kinds/Kinds')).Kinds }) },
        { path: 'kinds/:name', lazy: async () => ({ Component: (await import('./pages/kinds/KindPage')).KindPage }) },
        { path: 'people', lazy: async () => ({ Component: (await import('./pages/people/People')).People }) },
        { path: 'vault', lazy: async () => ({ Component: (await import('./pages/vault/Vault')).Vault }) },
        { path: 'parts', lazy: async () => ({ Component: (await import('./pages/parts/Parts')).Parts }) },
        { path: '*', lazy: async () => ({ Component: (await import('./pages/Nothing')).Nothing }) },
      ],
    }],
  },
])

createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <QueryClientProvider client={queries}><RouterProvider router={router} /></QueryClientProvider>
  </StrictMode>,
)
