import { Trans } from '@lingui/react/macro'
import { Dialog as Radix } from 'radix-ui'
import { useMemo, useRef, useState, type FormEvent, type ReactNode } from 'react'
import { FormProvider, useForm } from 'react-hook-form'
import { Problem } from '../api/client'
import { limits, type Limit } from '../api/limits'
import { drafts, held } from '../lib/drafts'
import { choose } from '../lib/files'
import { Button } from './Button'
import { cx } from './cx'
import { Asked, Faults } from './Field'
import { Trouble } from './Says'

type WindowProps = {
  open: boolean
  onOpenChange: (open: boolean) => void
  title: string
  about?: ReactNode
  wide?: boolean
  danger?: boolean
  children: ReactNode
  trigger?: ReactNode
}

/** A window over the page. A click beside it does nothing: what was typed is not lost by it. */
export function Window({ open, onOpenChange, title, about, wide, danger, children, trigger }: WindowProps) {
  return (
    <Radix.Root open={open} onOpenChange={onOpenChange}>
      {trigger && <Radix.Trigger asChild>{trigger}</Radix.Trigger>}
      <Radix.Portal>
        <Radix.Overlay className="fixed inset-0 bg-black/40 z-50" />
        <Radix.Content
          onInteractOutside={(e) => e.preventDefault()}
          className={cx('fixed z-50 left-1/2 top-[6vh] -translate-x-1/2 max-h-[88vh] overflow-auto bg-sheet border rounded-md p-5',
            danger ? 'border-clay' : 'border-line-strong', wide ? 'w-[min(56rem,94vw)]' : 'w-[min(34rem,94vw)]')}>
          <Radix.Title className={cx('text-[1.2rem] font-bold break-words', danger && 'text-clay')}>{title}</Radix.Title>
          <Radix.Description asChild><div className="text-soft mt-1 mb-3">{about}</div></Radix.Description>
          {children}
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  )
}

type AskProps = {
  button: ReactNode
  of?: string // what the button is about, for those who only hear it; all of it, where the button is more than words
  primary?: boolean
  small?: boolean
  danger?: boolean // what it does cannot be undone, or takes something away
  wide?: boolean
  title: string
  about?: ReactNode
  action: string
  asks?: string // the schema of what is sent, whose limits its fields have
  ready?: boolean // false while what is asked for cannot be done yet
  children?: ReactNode
  onSubmit: (form: FormData) => Promise<unknown>
  onOpen?: () => void
  onLeave?: () => void
}

/** A question with a form: opened by its button, closed when what it asks for is done. What was typed is there again when it is opened again. */
export function Ask({ button, of, primary, small, danger, wide, title, about, action, asks, ready = true, children, onSubmit, onOpen, onLeave }: AskProps) {
  const [open, setOpen] = useState(false)
  const [busy, setBusy] = useState(false)
  const [error, setError] = useState<Error | null>(null)
  const [restored, setRestored] = useState(false)
  const form = useRef<HTMLFormElement>(null)
  const sent = useRef(0)
  const key = `ask ${title}`
  const fields = useForm({ mode: 'onTouched', shouldUnregister: true })
  const asked = useMemo(() => ({ schema: asks, limits: (limits as Partial<Record<string, Partial<Record<string, Limit>>>>)[asks ?? ''] ?? {} }), [asks])
  /** Tells the form's rules what stands in it, where nobody has typed it: a draft, or what the browser has filled in. */
  const seen = (f: HTMLFormElement) => { for (const e of inputs(f)) fields.setValue(e.name, e instanceof HTMLInputElement && e.type === 'checkbox' ? e.checked : e.value) }

  const submit = async (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault()
    e.stopPropagation() // a form in a window is no part of one that the window was opened from
    const at = e.currentTarget
    let fits = false
    seen(at)
    await fields.handleSubmit(() => { fits = true })()
    if (!fits || !at.reportValidity()) return
    const turn = ++sent.current
    setBusy(true)
    setError(null)
    try {
      await onSubmit(new FormData(at))
      if (turn === sent.current) setOpen(false)
      forget(key)
    } catch (err) {
      if (turn === sent.current) setError(err as Error)
    } finally {
      if (turn === sent.current) setBusy(false)
    }
  }
  const change = (next: boolean) => {
    setOpen(next)
    setError(null)
    setBusy(false)
    if (next) onOpen?.()
    else {
      sent.current++
      onLeave?.()
    }
  }
  const wrong = Object.entries(fields.formState.errors).map(([name, e]) => [name, String(e?.message ?? '')])
  const faults = { ...(error instanceof Problem ? error.fields : {}), ...Object.fromEntries(wrong) as Record<string, string> }
  return (
    <Window open={open} onOpenChange={change} title={title} about={about} danger={danger} wide={wide}
      trigger={<Button primary={primary} small={small} danger={danger} aria-label={of && (typeof button === 'string' ? `${button}: ${of}` : of)}>{button}</Button>}>
      <form noValidate ref={(f) => {
        form.current = f
        if (!f || f.dataset.filled) return
        f.dataset.filled = 'yes'
        const again = refill(f, key)
        setRestored(again)
        if (again) seen(f)
      }}
        onSubmit={(e) => void submit(e)} onInput={() => form.current && keep(key, form.current)} className="grid gap-3">
        {restored && (
          <p className="text-soft bg-bench rounded px-3 py-1.5">
            <Trans>What you typed before is here again.{' '}
            <button type="button" className="underline underline-offset-2"
              onClick={() => { forget(key); form.current?.reset(); if (form.current) seen(form.current); setRestored(false) }}>Start over</button></Trans>
          </p>
        )}
        <FormProvider {...fields}><Asked value={asked}><Faults value={faults}>{children}</Faults></Asked></FormProvider>
        <Trouble error={error} />
        <div className="flex justify-end gap-2 pt-1">
          <Button onClick={() => change(false)}><Trans>Cancel</Trans></Button>
          <Button primary danger={danger} type="submit" disabled={busy || !ready}>{action}</Button>
        </div>
      </form>
    </Window>
  )
}

type QuestionProps = {
  open: boolean
  onLeave: () => void
  title: string
  about: ReactNode
  action: string
  danger?: boolean
  onSubmit: () => Promise<unknown>
}

/** A question without a form, opened from elsewhere, as from a menu. */
export function Question({ open, onLeave, title, about, action, danger, onSubmit }: QuestionProps) {
  const [busy, setBusy] = useState(false)
  const [error, setError] = useState<Error | null>(null)
  const leave = () => { setError(null); onLeave() }
  const submit = async () => {
    setBusy(true)
    setError(null)
    try {
      await onSubmit()
      leave()
    } catch (e) {
      setError(e as Error)
    } finally {
      setBusy(false)
    }
  }
  return (
    <Window open={open} onOpenChange={(o) => { if (!o) leave() }} title={title} about={about} danger={danger}>
      <Trouble error={error} />
      <div className="flex justify-end gap-2 pt-1">
        <Button onClick={leave}><Trans>Cancel</Trans></Button>
        <Button primary danger={danger} disabled={busy} onClick={() => void submit()}>{action}</Button>
      </div>
    </Window>
  )
}

type Entry = HTMLInputElement | HTMLSelectElement | HTMLTextAreaElement

const inputs = (form: HTMLFormElement) =>
  [...form.elements].filter((e): e is Entry => 'name' in e && e.name !== '' && !(e instanceof HTMLInputElement && ['file', 'hidden'].includes(e.type)))

/** Those whose values may be kept as a draft. */
const entries = (form: HTMLFormElement) => inputs(form).filter((e) => e.type !== 'password' && !e.dataset.secret)

function entered(form: HTMLFormElement): Record<string, string | boolean> {
  return Object.fromEntries(entries(form).map((e) => [e.name, e instanceof HTMLInputElement && e.type === 'checkbox' ? e.checked : e.value]))
}

const fileInputs = (form: HTMLFormElement) => [...form.elements].filter((e): e is HTMLInputElement => e instanceof HTMLInputElement && e.type === 'file' && e.name !== '')

function keep(key: string, form: HTMLFormElement) {
  drafts.write(key, entered(form))
  held.write(key, Object.fromEntries(fileInputs(form).map((e) => [e.name, [...(e.files ?? [])]])))
}

function forget(key: string) {
  drafts.drop(key)
  held.drop(key)
}

/** Puts back what was typed and chosen in a form before it was left; false when nothing was. */
function refill(form: HTMLFormElement, key: string): boolean {
  const kept = drafts.read<Record<string, string | boolean>>(key)
  if (!kept) return false
  let some = false
  for (const e of fileInputs(form)) {
    const files = held.read<Record<string, File[]>>(key)?.[e.name] ?? []
    choose(e, files)
    some ||= files.length > 0
  }
  for (const e of entries(form)) {
    const v = kept[e.name]
    if (v === undefined) continue
    if (e instanceof HTMLInputElement && e.type === 'checkbox') {
      some ||= e.checked !== v
      e.checked = v === true
    } else if (e.value !== v && typeof v === 'string') {
      some = true
      e.value = v
    }
  }
  return some
}

export const text = (form: FormData, name: string) => String(form.get(name) ?? '').trim()
