import { useNavigate } from 'react-router'

type Started = Promise<{ id: number }>

/**
 * Opens the page of a run that was started. What goes wrong is a form's to show with follow, and with start that of whoever shows the
 * mutation's error.
 */
export function useFollow() {
  const go = useNavigate()
  const follow = async (run: Started) => void go(`/runs/${(await run).id}`)
  const start = (run: Started) => void follow(run).catch(() => {})
  return { follow, start }
}
