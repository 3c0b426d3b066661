import { Eye, EyeOff } from 'lucide-react'
import { useReveal } from '../../api/hooks'
import { Ask } from '../../parts/Dialog'
import { Button } from '../../parts/basics'

/** A masked secret. Revealing asks, and is recorded. */
export function Reveal({ noun, owner, name }: { noun: string; owner: string; name: string }) {
  const reveal = useReveal()
  if (reveal.data) {
    return <span className="inline-flex items-center gap-2"><code className="font-mono select-all">{reveal.data.secret}</code><Button small onClick={() => reveal.reset()} aria-label={`Hide ${name}`}><EyeOff size={14} aria-hidden />Hide</Button></span>
  }
  return (
    <span className="inline-flex items-center gap-2"><span className="text-soft tracking-widest" aria-hidden>••••••••</span>
      <Ask small button={<><Eye size={14} aria-hidden />Reveal</>} title={`Reveal ${name} of ${owner}?`} about="It is shown on this page until you hide it or leave. That you saw it is recorded." action="Reveal"
        onSubmit={() => reveal.mutateAsync({ noun, owner, name })} />
    </span>
  )
}
