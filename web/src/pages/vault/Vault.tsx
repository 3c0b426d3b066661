import { plural, t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import type { Schemas } from '../../api/client'
import { useAudit, useMe, useRotateKey, useVault } from '../../api/hooks'
import { called } from '../../lib/called'
import { useSearchText } from '../../lib/address'
import { day } from '../../lib/format'
import { grouped } from '../../lib/group'
import { Ask } from '../../parts/Dialog'
import { Find } from '../../parts/Find'
import { Head } from '../../parts/Head'
import { To } from '../../parts/Links'
import { Empty, Shown } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { When } from '../../parts/When'
import { Reveal } from './Reveal'

const pages: Record<string, string> = { site: 'sites', client: 'clients', host: 'hosts', source: 'sources' }

type Secret = Schemas['Secret']

/** Secrets by what they belong to, and who has looked at what. */
export function Vault() {
  const vault = useVault()
  const audit = useAudit()
  const me = useMe().data
  const rotate = useRotateKey()
  const search = useSearchText()
  return (
    <>
      <Head title={t`Vault`} facts={t`Secrets are kept sealed, each tied to what it belongs to. That somebody saw one is recorded.`}>
        {me?.role === 'owner' && <Ask button={t`New key…`} title={t`Seal everything with a new key`} action={t`Re-encrypt`} about={t`All secrets are sealed with a key that is made now. The old one is kept while work that has begun still needs it.`} onSubmit={() => rotate.mutateAsync(undefined)} />}
      </Head>
      <div className="mb-3"><Find label={t`owner or secret`} value={search.typed} onChange={search.type} /></div>
      <div className="grid gap-4 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)] items-start">
        <Sheet title={t`Secrets`} aside={vault.data && plural(vault.data.length, { one: '# secret', other: '# secrets' })}>
          <Shown of={vault}>{(all) => {
            const found = all.filter((s) => `${s.noun} ${s.owner} ${s.name}`.includes(search.find.toLowerCase()))
            const owners = grouped(found, (s) => `${s.noun} ${s.owner}`)
            return owners.length === 0 ? <Empty>{search.find ? t`No matches.` : t`None yet.`}</Empty> : (
              <ul className="max-h-[calc(100vh-230px)] overflow-auto" tabIndex={0} aria-label={t`Secrets by owner`}>{owners.map(([owner, secrets]) => <Owned key={owner} secrets={secrets} />)}</ul>
            )
          }}</Shown>
        </Sheet>
        <Sheet title={t`Who did what`}>
          <Shown of={audit}>{(lines) => lines.length === 0 ? <Empty><Trans>Nothing yet.</Trans></Empty> : (
            <ul className="px-4 pb-3 max-h-[calc(100vh-230px)] overflow-auto" tabIndex={0} aria-label={t`Who did what`}>
              {lines.filter((a) => `${a.who} ${a.what}`.toLowerCase().includes(search.find.toLowerCase())).map((a, i) => (
                <li key={i} className="flex gap-3 py-0.5"><span className="text-faint whitespace-nowrap w-24" title={day(a.at)}><When at={a.at} /></span><b>{a.who}</b><span className="min-w-0 break-words">{a.what}</span></li>
              ))}
            </ul>
          )}</Shown>
        </Sheet>
      </div>
    </>
  )
}

function Owned({ secrets }: { secrets: Secret[] }) {
  const { noun, owner } = secrets[0]!
  return (
    <li className="border-t border-line px-4 py-2">
      <p className="mb-1">{pages[noun] ? <To to={`/${pages[noun]}/${owner}`}>{owner}</To> : <b>{owner}</b>} <span className="text-soft">{called(noun)}</span></p>
      <ul className="grid gap-1">
        {secrets.map((s) => (
          <li key={s.name} className="flex flex-wrap items-center gap-x-3">
            <span className="font-mono w-48 truncate" title={s.name}>{s.name}</span><Reveal noun={s.noun} owner={s.owner} name={s.name} /><span className="ml-auto text-soft"><Trans>kept <When at={s.created_at} /></Trans></span>
          </li>
        ))}
      </ul>
    </li>
  )
}
