import type { Schemas } from '../../api/client'

type FileDelta = Schemas['FileDelta']
export type Folded = { folder: string; files: FileDelta[]; packed: number }

const depth = 3

/** Files that differ, folded into the folders that people know; those that change the size most come first. */
export function folded(files: FileDelta[]): Folded[] {
  const by = new Map<string, Folded>()
  for (const f of files) {
    const folder = f.path.split('/').slice(0, -1).slice(0, depth).join('/')
    const at = by.get(folder) ?? { folder, files: [], packed: 0 }
    at.files.push(f)
    at.packed += f.packed
    by.set(folder, at)
  }
  return [...by.values()].sort((a, b) => Math.abs(b.packed) - Math.abs(a.packed) || a.folder.localeCompare(b.folder))
}

type DeltaLine = Schemas['DeltaLine']
export type Pair = { before?: string; after?: string; same: boolean }

/** The lines of a place side by side: what was removed stands beside what was added in its stead. */
export function beside(lines: DeltaLine[]): Pair[] {
  const out: Pair[] = []
  let open = 0 // the first pair whose right side is free
  for (const l of lines) {
    if (l.change === 'same') {
      out.push({ before: l.text, after: l.text, same: true })
      open = out.length
    } else if (l.change === 'removed') {
      out.push({ before: l.text, same: false })
    } else {
      const at = out[open]
      if (at) at.after = l.text
      else out.push({ after: l.text, same: false })
      open++
    }
  }
  return out
}
