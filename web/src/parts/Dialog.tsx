import { Dialog as Radix } from 'radix-ui'
import { useState, type FormEvent, type ReactNode } from 'react'
import { Button, Trouble } from './basics'

/** A question with a form: opened by its button, closed when what it asks for is done. */
export function Ask({ button, primary, small, title, about, action, children, onSubmit, onOpen }: {
  button: ReactNode; primary?: boolean; small?: boolean; title: string; about?: ReactNode; action: string
  children?: ReactNode; onSubmit: (form: FormData) => Promise<unknown>; onOpen?: () => void
}) {
  const [open, setOpen] = useState(false)
  const [busy, setBusy] = useState(false)
  const [error, setError] = useState<Error | null>(null)
  const submit = async (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault()
    setBusy(true)
    setError(null)
    try {
      await onSubmit(new FormData(e.currentTarget))
      setOpen(false)
    } catch (err) {
      setError(err as Error)
    } finally {
      setBusy(false)
    }
  }
  return (
    <Radix.Root open={open} onOpenChange={(o) => { setOpen(o); setError(null); if (o) onOpen?.() }}>
      <Radix.Trigger asChild><Button primary={primary} small={small}>{button}</Button></Radix.Trigger>
      <Radix.Portal>
        <Radix.Overlay className="fixed inset-0 bg-black/40" />
        <Radix.Content className="fixed left-1/2 top-[6vh] -translate-x-1/2 w-[min(34rem,92vw)] max-h-[88vh] overflow-auto bg-sheet border border-line-strong rounded-md p-5">
          <Radix.Title className="text-[1.2rem] font-bold">{title}</Radix.Title>
          <Radix.Description className="text-soft mt-1 mb-3">{about}</Radix.Description>
          <form onSubmit={submit} className="grid gap-3">
            {children}
            <Trouble error={error} />
            <div className="flex justify-end gap-2 pt-1">
              <Radix.Close asChild><Button>Leave it</Button></Radix.Close>
              <Button primary type="submit" disabled={busy}>{action}</Button>
            </div>
          </form>
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  )
}

export const text = (form: FormData, name: string) => String(form.get(name) ?? '').trim()
