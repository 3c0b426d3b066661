import { plural, t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import type { RowSelectionState } from '@tanstack/react-table'
import { Archive, EyeOff, Globe, X } from 'lucide-react'
import { useMemo, useState } from 'react'
import { useNavigate } from 'react-router'
import { addressBelow, type SiteRow } from '../../api/client'
import { useSites } from '../../api/hooks'
import { useAddressValue, useSearchText } from '../../lib/address'
import { onlyDay } from '../../lib/format'
import { Button, ButtonLink } from '../../parts/Button'
import { Chips } from '../../parts/Chips'
import { Find } from '../../parts/Find'
import { Select } from '../../parts/Field'
import { Head } from '../../parts/Head'
import { List, type ListColumn } from '../../parts/List'
import { Out, To } from '../../parts/Links'
import { Empty, Shown } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { Bytes } from '../../parts/SizeBar'
import { Status } from '../../parts/Status'
import { When } from '../../parts/When'
import { ActOnMany } from './ActOnMany'
import { Checks } from './Checks'

type State = NonNullable<Parameters<typeof useSites>[0]['state']>
type Sort = NonNullable<Parameters<typeof useSites>[0]['sort']>

const states: [State, string][] = [
  ['failed', t`faults`], ['warned', t`to look at`], ['unchecked', t`not checked`], ['held', t`held`], ['behind', t`behind`], ['to-do', t`tasks to do`],
  ['elsewhere', t`name leads elsewhere`], ['leading', t`name leads here`], ['ending', t`certificate ends soon`], ['uncopied', t`no newer copy`], ['passed', t`all well`],
]

const columns: ListColumn<SiteRow>[] = [
  { id: 'picture', head: t`Picture`, wide: true, cell: (s) => <Picture site={s} /> },
  { id: 'site', head: t`Site`, sort: 'title', fixed: true, cell: (s) => <To to={`/sites/${s.name}`}>{s.title || s.name}</To> },
  { id: 'name', head: t`Name`, sort: 'name', away: true, cell: (s) => <span className="font-mono">{s.name}</span> },
  { id: 'client', head: t`Client`, away: true, cell: (s) => <To to={`/clients/${s.client}`}>{s.client}</To> },
  { id: 'address', head: t`Address`, grow: true, wide: true, cell: (s) => <Out href={s.address} /> },
  { id: 'release', head: t`Release`, cell: (s) => <><To to={`/releases/${s.release}`}>{s.release}</To>{s.behind > 0 && !s.retired_at && <span className="text-soft" title={`${plural(s.behind, { one: '# newer release', other: '# newer releases' })}`}> −{s.behind}</span>}</> },
  { id: 'host', head: t`Host`, away: true, cell: (s) => <To to={`/hosts/${s.host}`}>{s.host}</To> },
  { id: 'state', head: t`State`, wide: true, cell: (s) => <Stands site={s} /> },
  { id: 'checks', head: t`Checks`, sort: 'attention', cell: (s) => <Checks counts={s.checks} /> },
  { id: 'tasks', head: t`To do`, wide: true, right: true, cell: (s) => s.tasks || '' },
  { id: 'checked', head: t`Checked`, sort: 'checked', away: true, cell: (s) => s.checks.at && <When at={s.checks.at} /> },
  { id: 'made', head: t`Made`, wide: true, sort: 'newest', cell: (s) => <When at={s.made_at} /> },
  { id: 'size', head: t`Size`, wide: true, sort: 'size', right: true, cell: (s) => <Bytes of={s.bytes} /> },
]

/** What its first page looked like; an empty frame where nobody has looked yet. */
function Picture({ site }: { site: SiteRow }) {
  const look = 'block w-[46px] h-[26px] rounded-[2px] border border-line overflow-hidden bg-bench'
  if (!site.picture) return <span className={look} />
  return <span className={look}><img src={addressBelow(site.picture)} alt="" loading="lazy" className="w-full object-cover object-top" /></span>
}

function Stands({ site }: { site: SiteRow }) {
  if (site.retired_at) return <Status tone="plain" icon={Archive}><Trans>retired {onlyDay(site.retired_at)}</Trans></Status>
  if (site.held) return <Status tone="look" icon={EyeOff}><Trans>held</Trans></Status>
  if (site.visible) return <Status tone="good" icon={Globe}><Trans>live</Trans></Status>
  return <span className="text-soft"><Trans>preview</Trans></span>
}

/** All sites: found, filtered, sorted, chosen, and acted on together. The address of the page holds all of it. */
export function Sites() {
  const search = useSearchText()
  const [state, setState] = useAddressValue('state')
  const [sort, setSort] = useAddressValue('sort', 'title')
  const [starter, setStarter] = useAddressValue('starter')
  const [client, setClient] = useAddressValue('client')
  const [host, setHost] = useAddressValue('host')
  const [retired, setRetired] = useAddressValue('retired')
  const [chosen, setChosen] = useState<RowSelectionState>({})
  const go = useNavigate()
  const sites = useSites({
    find: search.find || undefined, state: (state || undefined) as State | undefined, sort: (retired ? 'retired' : sort) as Sort, starter: starter || undefined,
    client: client || undefined, host: host || undefined, retired: retired !== '' || undefined,
  })
  const rows = useMemo(() => sites.data?.pages.flatMap((p) => p.sites) ?? [], [sites.data])
  const first = sites.data?.pages[0]
  const picked = rows.filter((s) => chosen[s.name])
  const narrowed = [['starter', starter, setStarter], ['client', client, setClient], ['host', host, setHost]] as const
  return (
    <>
      <Head title={t`Sites`} facts={t`What was made from releases, for clients.`}>
        <Button aria-pressed={retired !== ''} onClick={() => { setChosen({}); setRetired(retired ? '' : 'yes') }}>{retired ? t`Show those that stand` : t`Show the retired`}</Button>
        <ButtonLink to="/sites/table"><Trans>From a table</Trans></ButtonLink>
        <ButtonLink primary to="/sites/new"><Trans>Make a site</Trans></ButtonLink>
      </Head>
      <div className="flex flex-wrap items-center gap-2 mb-3">
        <Find label={t`name, address or client`} value={search.typed} onChange={search.type} />
        {!retired && first && (
          <Chips label={t`State of sites`} value={state} onPick={setState} chips={[
            { value: '', label: t`all`, count: first.total }, ...states.map(([value, label]) => ({ value, label, count: first.states[value] ?? 0 })),
          ]} />
        )}
        {narrowed.map(([what, value, set]) => value && (
          <Button key={what} small onClick={() => set('')}>{what} {value}<X size={12} aria-label={t`for all`} /></Button>
        ))}
        <label className="ml-auto flex items-center gap-2 text-soft"><Trans>by</Trans>
          <Select aria-label={t`Order`} className="h-[26px]! w-40!" value={sort} disabled={retired !== ''} onChange={(e) => setSort(e.target.value)}>
            <option value="title"><Trans>title</Trans></option><option value="attention"><Trans>needs attention</Trans></option><option value="newest"><Trans>newest</Trans></option>
            <option value="checked"><Trans>checked last</Trans></option><option value="size"><Trans>size</Trans></option><option value="name"><Trans>name</Trans></option>
          </Select>
        </label>
      </div>
      <Sheet>
        <Shown of={sites}>{() => rows.length === 0 ? (
          <Empty>
            {search.find || state ? t`No matching sites.` : retired ? t`No site was retired.` : <><Trans>None yet. <To to="/sites/new">Make the first one</To> from a release.</Trans></>}
          </Empty>
        ) : (
          <List name="sites" caption={t`Sites`} rows={rows} by={(s) => (s.retired_at ? `${s.name} ${s.run_id}` : s.name)} label={(s) => s.title || s.name} columns={columns}
            sort={sort} onSort={retired ? undefined : setSort} chosen={chosen} onChoose={retired ? undefined : setChosen}
            more={sites.hasNextPage && !sites.isFetchingNextPage ? () => void sites.fetchNextPage() : undefined} />
        )}</Shown>
      </Sheet>
      {picked.length > 0 && <ActOnMany sites={picked} onLeave={() => setChosen({})} onBegun={() => { setChosen({}); void go('/runs') }} />}
    </>
  )
}
