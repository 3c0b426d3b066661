import {
  createContext, useContext, useEffect, useId, useRef, type ComponentProps, type InputHTMLAttributes, type ReactNode, type SelectHTMLAttributes, type TextareaHTMLAttributes,
} from 'react'
import { useFormContext } from 'react-hook-form'
import { called } from '../lib/called'
import { choose } from '../lib/files'
import type { Limit } from '../api/limits'
import { rulesOf, type Own } from '../lib/rules'
import { cx } from './cx'
import { Help } from './Help'

/** What is wrong with fields of the form around, by their names. */
export const Faults = createContext<Record<string, string>>({})

/** What the form around asks for: the schema of what is sent, and its limits by the names of fields. */
export const Asked = createContext<{ schema?: string; limits: Partial<Record<string, Limit>> }>({ limits: {} })

type Listening = Pick<InputHTMLAttributes<HTMLInputElement>, 'onChange' | 'onBlur'>

/** Makes an input one of the form around it, which sees to its limits. One that is held by its page is seen to there. */
function useInForm<P extends Own & { value?: unknown }>(name: string, hint: ReactNode, own: P): Listening & { name: string } {
  const form = useFormContext() as ReturnType<typeof useFormContext> | null
  const { limits } = useContext(Asked)
  if (!form || 'value' in own) return { name }
  return form.register(name, rulesOf(limits[name], own, typeof hint === 'string' ? hint : undefined)) as Listening & { name: string }
}

type FieldProps = {
  label: string
  name?: string // of the input inside, so that what is wrong with it stands here
  hint?: ReactNode
  fault?: string
  children: (id: string, describedBy: string | undefined, faulty: boolean) => ReactNode
}

/** A label, its input, and below it a hint or what is wrong. */
export function Field({ label, name, hint, fault, children }: FieldProps) {
  const faults = useContext(Faults)
  const { schema } = useContext(Asked)
  const unique = useId()
  const id = name ? `f-${name.replace(/[^a-z0-9]+/gi, '-')}` : `f-${label.toLowerCase().replace(/[^a-z0-9]+/g, '-')}${unique}`
  const wrong = fault ?? (name ? faults[name] : undefined)
  const note = wrong ?? hint
  return (
    <div className="min-w-0">
      <span className="flex items-baseline gap-1.5 mb-1"><label htmlFor={id} className="font-semibold">{label}</label>{name && <Help schema={schema} field={name} label={label} />}</span>
      {children(id, note ? `${id}-note` : undefined, wrong !== undefined)}
      {note && <p id={`${id}-note`} className={cx('mt-1 break-words', wrong ? 'text-clay' : 'text-faint')}>{note}</p>}
    </div>
  )
}

const look = 'block w-full px-2.5 rounded border bg-sheet text-ink placeholder:text-faint disabled:opacity-60'
const edge = (faulty?: boolean) => (faulty ? 'border-clay' : 'border-line-strong/60')

export function Input({ fault, className, ...rest }: ComponentProps<'input'> & { fault?: boolean }) {
  return <input {...rest} aria-invalid={fault || undefined} className={cx(look, 'h-8', edge(fault), className)} />
}

export function Select({ fault, className, children, ...rest }: ComponentProps<'select'> & { fault?: boolean }) {
  return <select {...rest} aria-invalid={fault || undefined} className={cx(look, 'h-8', edge(fault), className)}>{children}</select>
}

export function Textarea({ fault, className, ...rest }: TextareaHTMLAttributes<HTMLTextAreaElement> & { fault?: boolean }) {
  return <textarea {...rest} aria-invalid={fault || undefined} className={cx(look, 'py-1.5', edge(fault), className)} />
}

const fileLook = 'block w-full text-soft file:h-8 file:px-3 file:mr-3 file:rounded file:border file:border-solid file:border-line-strong/60 file:bg-sheet file:text-ink file:font-semibold'

/** An input for files. */
export function FileBox({ chosen = [], ...props }: ComponentProps<'input'> & { chosen?: File[] }) {
  const at = useRef<HTMLInputElement>(null)
  useEffect(() => { if (at.current) choose(at.current, chosen) }, []) // what was chosen before one left
  return <input ref={at} type="file" className={fileLook} {...props} />
}

type TextFieldProps = Omit<InputHTMLAttributes<HTMLInputElement>, 'children'> & {
  label: string
  name: string
  hint?: ReactNode
  mono?: boolean
}

/** A field of one line. */
export function TextField({ label, name, hint, mono, className, ...rest }: TextFieldProps) {
  const inForm = useInForm(name, hint, rest)
  return (
    <Field label={label} name={name} hint={hint}>
      {(id, by, faulty) => (
        <Input id={id} aria-describedby={by} fault={faulty} className={cx(mono && 'font-mono', className)} {...rest} {...inForm}
          onChange={(e) => { void inForm.onChange?.(e); rest.onChange?.(e) }} />
      )}
    </Field>
  )
}

type Choice = { value: string; label?: string }
type SelectFieldProps = Omit<SelectHTMLAttributes<HTMLSelectElement>, 'children'> & {
  label: string
  name: string
  hint?: ReactNode
  choices: Choice[]
}

/** A field with a choice of few. */
export function SelectField({ label, name, hint, choices, ...rest }: SelectFieldProps) {
  const inForm = useInForm(name, hint, rest)
  return (
    <Field label={label} name={name} hint={hint}>
      {(id, by, faulty) => (
        <Select id={id} aria-describedby={by} fault={faulty} {...rest} {...inForm as { name: string }} onChange={(e) => { void (inForm.onChange as ((e: unknown) => void) | undefined)?.(e); rest.onChange?.(e) }}>
          {choices.map((c) => <option key={c.value} value={c.value}>{c.label ?? called(c.value)}</option>)}
        </Select>
      )}
    </Field>
  )
}

/** A box to tick, with its words. */
export function Tick({ children, className, ...rest }: InputHTMLAttributes<HTMLInputElement> & { children: ReactNode }) {
  return (
    <label className={cx('flex gap-2 items-start', className)}>
      <input type="checkbox" className="mt-[0.28em] accent-[var(--leaf)]" {...rest} />
      <span>{children}</span>
    </label>
  )
}
