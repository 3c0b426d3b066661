// Parts speak English in tests, from the source itself.
import { speak } from '../language'

speak('en', 'en-GB', {})
