import { Head } from '../parts/Head'
import { To } from '../parts/Links'

export const Nothing = () => (
  <>
    <Head title="Nothing is at this address" />
    <p>What was here may have been removed, or the address is not whole. <To to="/">Go to Today</To>.</p>
  </>
)
