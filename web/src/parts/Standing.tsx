import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useConnection } from '../api/connection'
import { useMe } from '../api/hooks'
import { Window } from './Dialog'
import { LoginForm } from './LoginForm'

/** What stands in the way of everything: nobody answers, or nobody is logged in any more. The page below keeps what was typed. */
export function Standing() {
  const { away, expired } = useConnection()
  const me = useMe()
  return (
    <>
      {away && (
        <p role="alert" className="sticky top-0 z-30 bg-amber-wash text-amber font-semibold px-6 py-2">
          <Trans>The service does not answer. What is shown may be old; it is asked again until it does, and nothing you typed is lost.</Trans>
        </p>
      )}
      <Window open={expired && !away} onOpenChange={() => {}} title={t`Log in again`}
        about={t`Your session has ended. The page below is as you left it: a file that was being sent goes on by itself, anything else you do again.`}>
        <LoginForm name={me.data?.name} />
      </Window>
    </>
  )
}
