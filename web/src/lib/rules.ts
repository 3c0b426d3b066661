// What a field may hold, for the form that it is in: from the service's own description, and from the field itself.
import type { RegisterOptions } from 'react-hook-form'
import type { Limit } from '../api/limits'
import { count } from './format'

/** What a field says itself, in the words of HTML. */
export type Own = { required?: boolean; minLength?: number; maxLength?: number; pattern?: string; min?: number | string; max?: number | string }

/** The rules of a field, each with the sentence that says what is wrong. Its hint says what form is asked for, where there is one. */
export function rulesOf(limit: Limit | undefined, own: Own, hint?: string): RegisterOptions {
  const out: RegisterOptions = {}
  const least = own.minLength ?? limit?.minLength
  const most = own.maxLength ?? limit?.maxLength
  const pattern = own.pattern ? `^(?:${own.pattern})$` : limit?.pattern
  const min = own.min ?? limit?.minimum
  const max = own.max ?? limit?.maximum
  if (own.required || limit?.required) out.required = 'It is missing.'
  if (least) out.minLength = { value: least, message: `At least ${count(least)} characters.` }
  if (most) out.maxLength = { value: most, message: `At most ${count(most)} characters.` }
  if (pattern) out.pattern = { value: new RegExp(pattern, 'u'), message: hint ? `Not in the form that is asked for: ${hint}.` : 'Not in the form that is asked for.' }
  if (min !== undefined) out.min = { value: min, message: `At least ${min}.` }
  if (max !== undefined) out.max = { value: max, message: `At most ${max}.` }
  return out
}
