import { Trans } from '@lingui/react/macro'
import { useParams } from 'react-router'
import { useSheet } from '../../api/hooks'
import { Button } from '../../parts/Button'
import { To } from '../../parts/Links'
import { Loading, Trouble } from '../../parts/Says'
import { ClientSheet } from './ClientSheet'

/** The same as the handover, to be printed: without the password. */
export function SheetPage() {
  const { name = '' } = useParams()
  const sheet = useSheet(name)
  if (sheet.isPending) return <Loading />
  if (!sheet.data) return <Trouble error={sheet.error} />
  return (
    <>
      <div className="max-w-[46rem] mx-auto mb-4 flex items-center gap-3 print:hidden"><p className="flex-1"><Trans>What <To to={`/sites/${name}`}>{name}</To> must know; it holds no secret.</Trans></p><Button primary onClick={() => print()}><Trans>Print</Trans></Button></div>
      <ClientSheet sheet={sheet.data} />
    </>
  )
}
