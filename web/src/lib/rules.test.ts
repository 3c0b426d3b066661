import { describe, expect, it } from 'vitest'
import { limits } from '../api/limits'
import { rulesOf } from './rules'

describe('rules of a field', () => {
  it('come from the description of the service', () => {
    const rules = rulesOf(limits.NewHost.name, {}, 'small letters, digits, dashes')
    expect(rules.required).toBe('It is missing.')
    expect(rules.maxLength).toEqual({ value: 60, message: 'At most 60 characters.' })
    const pattern = rules.pattern as { value: RegExp; message: string }
    expect([pattern.value.test('alder-valley'), pattern.value.test('Alder Valley'), pattern.message]).toEqual([true, false, 'Not in the form that is asked for: small letters, digits, dashes.'])
  })

  it('are those of the field where it has its own', () => {
    expect(rulesOf(limits.NewHandover.days, { max: 7 })).toEqual({ min: { value: 1, message: 'At least 1.' }, max: { value: 7, message: 'At most 7.' } })
    expect(rulesOf(undefined, { pattern: 'a|b' }).pattern).toEqual({ value: /^(?:a|b)$/u, message: 'Not in the form that is asked for.' })
    expect(rulesOf(undefined, {})).toEqual({})
  })
})
