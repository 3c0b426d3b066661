import { Outlet } from 'react-router'
import { Problem } from './api/client'
import { LiveRuns } from './api/events'
import { useMe } from './api/hooks'
import { Login } from './pages/login/Login'
import { Standing } from './parts/Standing'
import { Trouble } from './parts/Says'

/** All pages but the handover: for whoever is logged in. */
export function Console() {
  const me = useMe()
  if (me.data) return <LiveRuns><Outlet /></LiveRuns>
  if (me.isPending) return null
  if (me.error instanceof Problem && me.error.loggedOut) return <Login />
  return <><Standing /><main className="p-8"><Trouble error={me.error} /></main></>
}
