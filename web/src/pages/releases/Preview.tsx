import { plural, t } from '@lingui/core/macro'
import { Plural, Trans } from '@lingui/react/macro'
import { Download, X } from 'lucide-react'
import { useQuery } from '@tanstack/react-query'
import { addressOf, body, http } from '../../api/client'
import { useTableRows } from '../../api/hooks'
import { Button, ButtonLink } from '../../parts/Button'
import { Empty, Shown } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'

const mostText = 200_000

const fileOf = (release: string, path: string) => ({ path: { ref: release }, query: { path } })

/** What is in a file or table of a release: a picture, text, or the first rows. What was blanked is blank. */
export function Preview({ release, path, onClose }: { release: string; path: string; onClose: () => void }) {
  const table = path.startsWith('database/') ? path.slice('database/'.length) : ''
  return (
    <Sheet title={<span className="font-mono break-all">{path}</span>} aside={<span className="flex gap-2">
      {!table && <ButtonLink small download to={addressOf('/releases/{ref}/file', fileOf(release, path))}><Download size={12} aria-hidden /><Trans>Download</Trans></ButtonLink>}
      <Button small aria-label={t`Close the preview`} onClick={onClose}><X size={13} aria-hidden /></Button>
    </span>}>
      {table ? <TableRows release={release} table={table} /> : <File release={release} path={path} />}
    </Sheet>
  )
}

type Content = { picture: string } | { text: string; cut: boolean } | { bytes: number }

async function read(release: string, path: string): Promise<Content> {
  const blob = await body<Blob>(http.GET('/releases/{ref}/file', { params: fileOf(release, path), parseAs: 'blob' }))
  const media = blob.type
  if (media.startsWith('image/')) return { picture: URL.createObjectURL(blob) }
  if (media.startsWith('text/')) return { text: await blob.slice(0, mostText).text(), cut: blob.size > mostText }
  return { bytes: blob.size }
}

function File({ release, path }: { release: string; path: string }) {
  const content = useQuery({ queryKey: ['releases', release, 'file', path], queryFn: () => read(release, path), staleTime: Infinity, gcTime: 60_000, retry: false })
  return (
    <Shown of={content}>{(c) => {
      if ('picture' in c) return <div className="px-4 pb-4"><img src={c.picture} alt={path} className="max-w-full max-h-[60vh] object-contain bg-bench" /></div>
      if ('text' in c) {
        return (
          <>
            <pre tabIndex={0} aria-label={t`Text of ${path}`} className="mx-4 mb-3 p-3 bg-bench rounded overflow-auto max-h-[60vh] font-mono text-[0.9rem] leading-normal whitespace-pre-wrap break-all">{c.text}</pre>
            {c.cut && <p className="px-4 pb-3 text-soft"><Trans>This is its beginning; download it for all of it.</Trans></p>}
          </>
        )
      }
      return <Empty><Trans><Plural value={c.bytes} one="# byte" other="# bytes" /> that are neither text nor a picture.</Trans></Empty>
    }}</Shown>
  )
}

function TableRows({ release, table }: { release: string; table: string }) {
  const rows = useTableRows(release, table)
  return (
    <Shown of={rows}>{(first) => first.rows.length === 0 ? <Empty><Trans>No rows went in.</Trans></Empty> : (
      <>
        <div className="overflow-auto max-h-[60vh] border-t border-line" tabIndex={0} role="region" aria-label={t`Rows of ${table}`}>
          <table className="border-collapse">
            <caption className="sr-only"><Trans>First rows of {table}</Trans></caption>
            <thead className="sticky top-0 bg-sheet"><tr>{first.columns.map((c) => <th key={c} scope="col" className="text-left text-faint px-3 h-7 whitespace-nowrap border-b border-line">{c}</th>)}</tr></thead>
            <tbody>{first.rows.map((row, i) => (
              <tr key={i} className="border-b border-line align-top">{row.map((cell, k) => (
                <td key={k} className="px-3 py-1 font-mono text-[0.9rem] max-w-80 truncate" title={cell ?? 'NULL'}>{cell ?? <i className="text-faint">NULL</i>}</td>
              ))}</tr>
            ))}</tbody>
          </table>
        </div>
        <p className="px-4 py-2 text-soft">{first.rows.length < first.all ? t`The first ${first.rows.length} of ${plural(first.all, { one: '# row', other: '# rows' })}.` : t`All ${plural(first.all, { one: '# row', other: '# rows' })}.`}</p>
      </>
    )}</Shown>
  )
}
