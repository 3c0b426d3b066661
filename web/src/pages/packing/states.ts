import type { Schemas } from '../../api/client'

type Node = Schemas['PackedNode']
type Table = Schemas['PackedTable']
type Edit = Schemas['ListEdit']

/** A pattern for just this file, or all of this folder: its signs stand for themselves. */
export function patternOf(n: Pick<Node, 'path' | 'folder'>): string {
  const plain = n.path.replace(/[\\*?[\]{}]/g, '\\$&')
  return n.folder ? `${plain}/**` : plain
}

export type State = 'in' | 'out' | 'partly'

export function stateOf(n: Node): State {
  if (n.out_files === 0) return 'in'
  return n.out_files === n.files ? 'out' : 'partly'
}

/** Whether the rule that keeps a node out is its own, so that it can be taken back for it alone. */
export const ownRule = (n: Node) => n.rule === patternOf(n) || n.rule === n.path

/** What changes the state of a file or folder; undefined where a rule for more than it keeps it out. */
export function editOf(n: Node, to: 'in' | 'out'): Edit | undefined {
  if (to === 'out') return { leave_out: [patternOf(n)] }
  return n.rule && ownRule(n) ? { put_back: [n.rule] } : undefined
}

/** What gives a table another state; undefined where a pattern for several tables keeps it out. */
export function tableEdit(t: Table, to: Table['state']): Edit | undefined {
  if (t.state === to) return undefined
  const back = t.state === 'in' ? undefined : t.state === 'empty' || t.rule === `tables: ${t.name}` ? [t.name] : null
  if (back === null) return undefined
  const edit: Edit = { put_back: back }
  if (to === 'out') edit.leave_out_tables = [t.name]
  if (to === 'empty') edit.empty = [t.name]
  return edit
}
