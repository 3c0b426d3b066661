import { Download, X } from 'lucide-react'
import { useQuery } from '@tanstack/react-query'
import { addressOf, body, http } from '../../api/client'
import { useTableRows } from '../../api/hooks'
import { count } from '../../lib/format'
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
      {!table && <ButtonLink small download to={addressOf('/releases/{ref}/file', fileOf(release, path))}><Download size={12} aria-hidden />Download</ButtonLink>}
      <Button small aria-label="Close the preview" onClick={onClose}><X size={13} aria-hidden /></Button>
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
            <pre tabIndex={0} aria-label={`Text of ${path}`} className="mx-4 mb-3 p-3 bg-bench rounded overflow-auto max-h-[60vh] font-mono text-[0.9rem] leading-normal whitespace-pre-wrap break-all">{c.text}</pre>
            {c.cut && <p className="px-4 pb-3 text-soft">This is its beginning; download it for all of it.</p>}
          </>
        )
      }
      return <Empty>{count(c.bytes)} bytes that are neither text nor a picture.</Empty>
    }}</Shown>
  )
}

function TableRows({ release, table }: { release: string; table: string }) {
  const rows = useTableRows(release, table)
  return (
    <Shown of={rows}>{(t) => t.rows.length === 0 ? <Empty>No rows went in.</Empty> : (
      <>
        <div className="overflow-auto max-h-[60vh] border-t border-line" tabIndex={0} role="region" aria-label={`Rows of ${table}`}>
          <table className="border-collapse">
            <caption className="sr-only">First rows of {table}</caption>
            <thead className="sticky top-0 bg-sheet"><tr>{t.columns.map((c) => <th key={c} scope="col" className="text-left text-faint px-3 h-7 whitespace-nowrap border-b border-line">{c}</th>)}</tr></thead>
            <tbody>{t.rows.map((row, i) => (
              <tr key={i} className="border-b border-line align-top">{row.map((cell, k) => (
                <td key={k} className="px-3 py-1 font-mono text-[0.9rem] max-w-80 truncate" title={cell ?? 'NULL'}>{cell ?? <i className="text-faint">NULL</i>}</td>
              ))}</tr>
            ))}</tbody>
          </table>
        </div>
        <p className="px-4 py-2 text-soft">{t.rows.length < t.all ? `The first ${t.rows.length} of ${count(t.all)} rows.` : `All ${count(t.all)} rows.`}</p>
      </>
    )}</Shown>
  )
}
