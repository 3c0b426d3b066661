import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { Head } from '../parts/Head'
import { To } from '../parts/Links'

export const Nothing = () => (
  <>
    <Head title={t`Nothing is at this address`} />
    <p><Trans>What was here may have been removed, or the address is not whole. <To to="/">Go to Today</To>.</Trans></p>
  </>
)
