// What a field may hold, for the form that it is in: from the service's own description, and from the field itself.
import { plural, t } from '@lingui/core/macro'
import type { RegisterOptions } from 'react-hook-form'
import type { Limit } from '../api/limits'

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
  if (own.required || limit?.required) out.required = t`It is missing.`
  if (least) out.minLength = { value: least, message: t`At least ${plural(least, { one: '# character', other: '# characters' })}.` }
  if (most) out.maxLength = { value: most, message: t`At most ${plural(most, { one: '# character', other: '# characters' })}.` }
  if (pattern) out.pattern = { value: new RegExp(pattern, 'u'), message: hint ? t`Not in the form that is asked for: ${hint}.` : t`Not in the form that is asked for.` }
  if (min !== undefined) out.min = { value: min, message: t`At least ${min}.` }
  if (max !== undefined) out.max = { value: max, message: t`At most ${max}.` }
  return out
}
