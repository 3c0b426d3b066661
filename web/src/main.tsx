import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { BrowserRouter, Route, Routes } from 'react-router'
import { Problem } from './api/client'
import { LiveRuns } from './api/events'
import { useMe } from './api/hooks'
import './app.css'
import { Shell } from './parts/Shell'
import { Trouble } from './parts/basics'
import { ClientPage } from './pages/clients/ClientPage'
import { Clients } from './pages/clients/Clients'
import { Handover } from './pages/handover/Handover'
import { SheetPage } from './pages/handover/SheetPage'
import { Hosts } from './pages/hosts/Hosts'
import { Login } from './pages/login/Login'
import { ComparisonPage } from './pages/releases/ComparisonPage'
import { ReleasePage } from './pages/releases/ReleasePage'
import { RunPage } from './pages/runs/RunPage'
import { InstallPage } from './pages/installs/InstallPage'
import { Runs } from './pages/runs/Runs'
import { MakeSite } from './pages/sites/MakeSite'
import { MakeTable } from './pages/sites/MakeTable'
import { SideBySide } from './pages/sites/SideBySide'
import { SitePage } from './pages/sites/SitePage'
import { Sites } from './pages/sites/Sites'
import { SourcePage } from './pages/sources/SourcePage'
import { Sources } from './pages/sources/Sources'
import { StarterPage } from './pages/starters/StarterPage'
import { Starters } from './pages/starters/Starters'
import { Today } from './pages/today/Today'
import { Vault } from './pages/vault/Vault'

const theme = localStorage.getItem('theme')
if (theme) document.documentElement.dataset.theme = theme

const queries = new QueryClient({ defaultOptions: { queries: { retry: (n, e) => n < 2 && !(e instanceof Problem && e.status >= 400), staleTime: 2_000 } } })

function Console() {
  const me = useMe()
  if (me.isPending) return null
  if (me.error instanceof Problem && me.error.status === 401) return <Login />
  if (me.error) return <main className="p-8"><Trouble error={me.error} /></main>
  return (
    <LiveRuns>
      <Routes>
        <Route element={<Shell />}>
          <Route index element={<Today />} />
          <Route path="sources" element={<Sources />} />
          <Route path="sources/:name" element={<SourcePage />} />
          <Route path="starters" element={<Starters />} />
          <Route path="starters/:name" element={<StarterPage />} />
          <Route path="releases/:release" element={<ReleasePage />} />
          <Route path="comparisons/:id" element={<ComparisonPage />} />
          <Route path="clients" element={<Clients />} />
          <Route path="clients/:name" element={<ClientPage />} />
          <Route path="sites" element={<Sites />} />
          <Route path="sites/new" element={<MakeSite />} />
          <Route path="sites/table" element={<MakeTable />} />
          <Route path="sites/:name" element={<SitePage />} />
          <Route path="sites/:name/side-by-side" element={<SideBySide />} />
          <Route path="sites/:name/sheet" element={<SheetPage />} />
          <Route path="runs" element={<Runs />} />
          <Route path="runs/:id" element={<RunPage />} />
          <Route path="hosts" element={<Hosts />} />
          <Route path="installs/:name" element={<InstallPage />} />
          <Route path="vault" element={<Vault />} />
          <Route path="*" element={<p>There is nothing at this address.</p>} />
        </Route>
      </Routes>
    </LiveRuns>
  )
}

createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <BrowserRouter><Routes><Route path="handover" element={<Handover />} /><Route path="*" element={<Console />} /></Routes></BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
)
