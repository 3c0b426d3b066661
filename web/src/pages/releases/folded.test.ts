import { describe, expect, it } from 'vitest'
import { beside, folded } from './folded'

const file = (path: string, packed: number) => ({ path, packed, change: 'changed' as const, area: 'code', before: 0, after: 0 })

describe('files that differ', () => {
  it('are folded into folders, the greatest difference first', () => {
    const all = folded([file('index.php', 1), file('wp-content/plugins/rooms/a.php', -5), file('wp-content/plugins/rooms/js/b.js', -6), file('wp-content/uploads/c.jpg', 7)])
    expect(all.map((f) => [f.folder, f.files.length, f.packed])).toEqual([['wp-content/plugins/rooms', 2, -11], ['wp-content/uploads', 1, 7], ['', 1, 1]])
  })

  it('show lines beside those in whose stead they came', () => {
    const pairs = beside([
      { change: 'same', text: 'a' }, { change: 'removed', text: 'b' }, { change: 'removed', text: 'c' }, { change: 'added', text: 'B' },
      { change: 'same', text: 'd' }, { change: 'added', text: 'e' }, { change: 'added', text: 'f' },
    ])
    expect(pairs).toEqual([
      { before: 'a', after: 'a', same: true }, { before: 'b', after: 'B', same: false }, { before: 'c', same: false }, { before: 'd', after: 'd', same: true },
      { after: 'e', same: false }, { after: 'f', same: false },
    ])
  })
})
