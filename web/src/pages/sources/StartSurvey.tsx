import { t } from '@lingui/core/macro'
import { useSurvey } from '../../api/hooks'
import { useFollow } from '../../lib/useFollow'
import { Button } from '../../parts/Button'
import { Trouble } from '../../parts/Says'

export function StartSurvey({ source, again, primary }: { source: string; again?: boolean; primary?: boolean }) {
  const survey = useSurvey()
  const { start } = useFollow()
  return (
    <span>
      <Button primary={primary} disabled={survey.isPending} onClick={() => start(survey.mutateAsync(source))}>
        {again ? t`Survey again` : t`Survey`}
      </Button>
      <Trouble error={survey.error} />
    </span>
  )
}
