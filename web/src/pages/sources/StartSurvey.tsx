import { useNavigate } from 'react-router'
import { useSurvey } from '../../api/hooks'
import { Button } from '../../parts/Button'
import { Trouble } from '../../parts/Says'

export function StartSurvey({ source, again, primary }: { source: string; again?: boolean; primary?: boolean }) {
  const survey = useSurvey()
  const go = useNavigate()
  return (
    <span>
      <Button primary={primary} disabled={survey.isPending} onClick={() => void survey.mutateAsync(source).then((run) => go(`/runs/${run.id}`))}>
        {again ? 'Survey again' : 'Survey'}
      </Button>
      <Trouble error={survey.error} />
    </span>
  )
}
