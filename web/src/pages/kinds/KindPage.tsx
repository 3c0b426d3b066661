import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useNavigate, useParams } from 'react-router'
import { useKind, useRemoveKind } from '../../api/hooks'
import { Copy } from '../../parts/Copy'
import { Ask } from '../../parts/Dialog'
import { Head } from '../../parts/Head'
import { Loading, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'

export function KindPage() {
  const { name = '' } = useParams()
  const kind = useKind(name)
  const remove = useRemoveKind()
  const go = useNavigate()
  if (kind.isPending) return <Loading />
  if (!kind.data) return <><Head title={name} /><Trouble error={kind.error} /></>
  const k = kind.data
  return (
    <>
      <Head title={k.title} crumbs={[{ to: '/kinds', label: t`Kinds` }]} facts={<>
        <span className="font-mono">{k.name}</span><span><Trans>packing lists {k.lists.join(', ')}</Trans></span>
        {k.keep.length > 0 && <span><Trans>a new site takes over {k.keep.map((p) => p.title.toLowerCase()).join(', ')}</Trans></span>}<span>{k.holds ? t`visitors can be kept out` : t`visitors cannot be kept out`}</span>
      </>}>
        {!k.stock && (
          <Ask danger button={t`Remove…`} title={t`Remove kind ${k.title}`} action={t`Remove it`} about={t`Sources and starters that are of it must be gone before.`}
            onSubmit={async () => { await remove.mutateAsync(name); void go('/kinds') }} />
        )}
      </Head>
      <Sheet title={t`Definition`} aside={<Copy text={k.definition ?? ''} what={t`the definition`} />}>
        <pre tabIndex={0} aria-label={t`Definition`} className="px-4 pb-4 overflow-auto max-h-[calc(100vh-220px)] font-mono text-[0.9rem] leading-normal">{k.definition}</pre>
      </Sheet>
    </>
  )
}
