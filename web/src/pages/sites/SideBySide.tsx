import { plural, t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useState } from 'react'
import { useParams } from 'react-router'
import { useLook, useSideBySide } from '../../api/hooks'
import { addressOf, Problem } from '../../api/client'
import { useFollow } from '../../lib/useFollow'
import { Button } from '../../parts/Button'
import { Head } from '../../parts/Head'
import { Chips } from '../../parts/Chips'
import { Out, To } from '../../parts/Links'
import { Empty, Loading, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { cx } from '../../parts/cx'
import { useAddressValue } from '../../lib/address'
import { day, percent } from '../../lib/format'

/** The same pages of source and site, with frames around what differs. */
export function SideBySide() {
  const { name = '' } = useParams()
  const seen = useSideBySide(name)
  const look = useLook()
  const { start } = useFollow()
  const [at, setAt] = useState(0)
  const [view, setView] = useAddressValue('view')
  const never = seen.error instanceof Problem && seen.error.status === 404
  if (seen.isPending) return <Loading />
  if (!seen.data && !never) return <Trouble error={seen.error} />
  const again = <Button primary={never} onClick={() => start(look.mutateAsync(name))}>{never ? t`Look at them now` : t`Look again`}</Button>
  const crumbs = [{ to: '/sites', label: t`Sites` }, { to: `/sites/${name}`, label: name }]
  if (!seen.data) return <><Head title={t`${name} beside its source`} crumbs={crumbs}>{again}</Head><Trouble error={look.error} /><Sheet><Empty><Trans>Nobody has looked yet. It takes a second or two a page.</Trans></Empty></Sheet></>
  const s = seen.data
  const page = s.pages[Math.min(at, s.pages.length - 1)]!
  const picture = (file: string) => addressOf('/sites/{name}/side-by-side/{file}', { path: { name, file }, query: { at: s.at } })
  return (
    <>
      <Head title={t`${name} beside its source`} crumbs={crumbs} facts={<><span><Trans>source <To to={`/sources/${s.source}`}>{s.source}</To></Trans></span><span><Trans>seen {day(s.at)}</Trans></span><span><Trans>frames are around what differs; titles and values should</Trans></span></>}>
        {again}
      </Head>
      <Trouble error={look.error} />
      <div className="mb-3"><Chips label={t`How they are shown`} value={view} onPick={setView} chips={[{ value: '', label: t`side by side` }, { value: 'slider', label: t`one over the other` }, { value: 'difference', label: t`only what differs` }]} /></div>
      <div className={cx('grid gap-4 items-start', view ? 'lg:grid-cols-[13.5rem_minmax(0,1fr)]' : 'lg:grid-cols-[13.5rem_minmax(0,1fr)_minmax(0,1fr)]')}>
        <nav aria-label={t`Pages`} className="bg-sheet border border-line rounded-md py-1.5">
          {s.pages.map((p, i) => (
            <button key={p.path} type="button" aria-current={i === at ? 'page' : undefined} onClick={() => setAt(i)}
              className={cx('w-full text-left px-4 py-1.5 grid gap-1', i === at ? 'bg-leaf-wash' : 'hover:bg-leaf-wash/50')}>
              <span className="font-semibold truncate">/{p.path}</span>
              <span className="flex items-center gap-2 text-soft">
                <span className="inline-block h-2 w-20 rounded-sm bg-line overflow-hidden" aria-hidden><span className="block h-full bg-clay" style={{ width: `${Math.min(100, p.share * 100)}%` }} /></span>
                {p.problem ? t`did not open` : percent(p.share)}
              </span>
            </button>
          ))}
        </nav>
        {page.problem ? <div className="lg:col-span-2"><Trouble error={new Error(page.problem)} /></div>
          : view ? <OneOverOther left={picture(page.left)} right={picture(page.right)} difference={view === 'difference'} path={page.path} />
            : ([[t`Source`, s.left, page.left, false], [t`Site`, s.right, page.right, true]] as const).map(([title, address, file, ours]) => (
              <Sheet key={title} title={title} aside={<Out href={`${address}/${page.path}`}>{ours ? t`${percent(page.share)} in ${plural(page.places, { one: '# place', other: '# places' })}` : t`open`}</Out>}>
                <img src={picture(file)} alt={`${title}: /${page.path}`} className="block w-full border-t border-line" />
              </Sheet>
            ))}
      </div>
    </>
  )
}

/** The site over its source: uncovered by a slider, or only where they differ. */
function OneOverOther({ left, right, difference, path }: { left: string; right: string; difference: boolean; path: string }) {
  const [share, setShare] = useState(50)
  return (
    <Sheet className="overflow-hidden">
      {!difference && (
        <label className="flex items-center gap-3 px-4 py-2"><Trans>Source</Trans><input type="range" min={0} max={100} value={share} onChange={(e) => setShare(Number(e.target.value))} className="flex-1 accent-[var(--leaf)]" aria-label={t`How much of the site is shown`} /><Trans>Site</Trans></label>
      )}
      {difference && <p className="px-4 py-2 text-soft"><Trans>Identical areas are black.</Trans></p>}
      <div className="relative">
        <img src={left} alt={t`Source: /${path}`} className="block w-full" />
        <img src={right} alt={t`Site: /${path}`} className={cx('absolute inset-x-0 top-0 w-full', difference && 'mix-blend-difference')} style={difference ? undefined : { clipPath: `inset(0 ${100 - share}% 0 0)` }} />
      </div>
    </Sheet>
  )
}
