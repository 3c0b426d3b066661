import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import type { ReactNode } from 'react'
import type { Schemas } from '../../api/client'
import { Out } from '../../parts/Links'

const term = 'text-soft'

/** What a client must know of a site. The password, if there is one to show, is left out on paper. */
export function ClientSheet({ sheet, password }: { sheet: Schemas['Sheet']; password?: ReactNode }) {
  return (
    <article className="bg-sheet border border-line rounded-md p-5 sm:p-7 max-w-[46rem] mx-auto print:border-0 print:p-0 text-[1.08rem] leading-relaxed">
      <Agency of={sheet.agency} />
      <h1 className="text-[1.8rem] font-bold tracking-tight leading-tight">{sheet.title}</h1>
      <p className="mt-1"><Out href={sheet.address} />{sheet.held && <span className="text-soft"><Trans>, where visitors see a holding page until it is opened</Trans></span>}</p>
      <Part title={t`Logging in`}>
        <dl className="grid sm:grid-cols-[8rem_1fr] gap-y-1 items-center">
          <dt className={term}><Trans>At</Trans></dt><dd className="min-w-0 break-all"><Out href={sheet.login_at} /></dd>
          <dt className={term}><Trans>As</Trans></dt><dd className="font-mono">{sheet.login}</dd>
          <dt className={term}><Trans>Password</Trans></dt>
          <dd>{password && <span className="print:hidden">{password}</span>}<span className={password ? 'hidden print:inline' : ''}><Trans>not on paper: it comes by a link that works once</Trans></span></dd>
        </dl>
      </Part>
      <Part title={t`What to do`}><ol className="list-decimal pl-6 grid gap-0.5">{sheet.to_do.map((s) => <li key={s}>{s}</li>)}</ol></Part>
      {sheet.tasks.length > 0 && (
        <Part title={t`Still to be done`}>
          <ul className="list-disc pl-6 grid gap-1.5">{sheet.tasks.map((task) => <li key={task.key}><b>{task.title}</b><span className="block text-soft">{task.detail}</span></li>)}</ul>
        </Part>
      )}
      {sheet.values.length > 0 && (
        <Part title={t`What was set`}>
          <dl className="grid sm:grid-cols-[11rem_1fr] gap-y-1">{sheet.values.map((v) => [<dt key={`${v.key} t`} className={term}>{v.label}</dt>, <dd key={v.key} className="min-w-0 break-words">{v.value}</dd>])}</dl>
        </Part>
      )}
      {sheet.agency.contact && <Part title={t`Questions`}><p>{sheet.agency.contact}</p></Part>}
    </article>
  )
}

/** Whose work it is, in the agency's own colour. */
function Agency({ of }: { of: Schemas['Agency'] }) {
  if (!of.name && !of.logo) return null
  return (
    <div className="flex items-center gap-3 pb-4 mb-5 border-b-4" style={{ borderColor: of.colour || 'var(--leaf)' }}>
      {of.logo && <img src={of.logo} alt="" className="max-h-12 max-w-40 object-contain" />}
      <span className="font-bold text-[1.15rem]">{of.name}</span>
    </div>
  )
}

function Part({ title, children }: { title: string; children: ReactNode }) {
  return <section className="mt-6"><h2 className="font-bold text-[1.2rem] mb-1.5">{title}</h2>{children}</section>
}
