// @vitest-environment happy-dom
import { screen, within } from '@testing-library/react'
import userEvent from '@testing-library/user-event'
import { useState } from 'react'
import { beforeEach, expect, it, vi } from 'vitest'
import { Chips } from './Chips'
import { List } from './List'
import { Rows } from './Rows'
import { draw, withHeight } from '../testing/draw'

const schools = Array.from({ length: 300 }, (_, i) => ({ name: `school-${i}`, size: i }))

beforeEach(withHeight)

function Schools({ onSort, more }: { onSort?: (s: string) => void; more?: () => void }) {
  const [chosen, choose] = useState({})
  return (
    <>
      <p>{Object.keys(chosen).join(' ')}</p>
      <List name="schools" caption="Schools" rows={schools} by={(s) => s.name} label={(s) => s.name} chosen={chosen} onChoose={choose} sort="name" onSort={onSort} more={more}
        columns={[{ id: 'name', head: 'Name', sort: 'name', fixed: true, cell: (s) => s.name }, { id: 'size', head: 'Size', sort: 'size', right: true, cell: (s) => s.size },
          { id: 'host', head: 'Host', away: true, cell: () => 'preview' }]} />
    </>
  )
}

it('draws the rows that are seen, and asks for more near the end', () => {
  const more = vi.fn()
  draw(<Schools more={more} />)
  const rows = screen.getAllByRole('row')
  expect(rows.length).toBeGreaterThan(5)
  expect(rows.length).toBeLessThan(60)
  expect(screen.queryByText('school-299')).toBeNull()
  expect(more).not.toHaveBeenCalled()
})

it('sorts by the headings that can be sorted by, and says which it is', async () => {
  const sort = vi.fn()
  draw(<Schools onSort={sort} />)
  await userEvent.click(screen.getByRole('button', { name: 'Size' }))
  expect(sort).toHaveBeenCalledWith('size')
  expect(screen.getByRole('columnheader', { name: 'Name' }).getAttribute('aria-sort')).toBe('ascending')
})

it('chooses rows one by one and all at once', async () => {
  draw(<Schools />)
  await userEvent.click(screen.getByLabelText('Choose school-1'))
  expect(screen.getByText('school-1', { selector: 'p' })).toBeTruthy()
  await userEvent.click(screen.getByLabelText('Choose all that are shown'))
  expect(document.querySelector('p')!.textContent!.split(' ').length).toBe(300)
})

it('remembers which columns are wanted', async () => {
  const { unmount } = draw(<Schools />)
  expect(screen.queryByRole('columnheader', { name: 'Host' })).toBeNull()
  await userEvent.click(screen.getByLabelText('Choose columns'))
  await userEvent.click(await screen.findByRole('menuitemcheckbox', { name: /Host/ }))
  await userEvent.click(screen.getByRole('menuitemcheckbox', { name: /Size/ }))
  await userEvent.keyboard('{Escape}')
  expect(screen.getByRole('columnheader', { name: 'Host' })).toBeTruthy()
  unmount()
  draw(<Schools />)
  expect(screen.getByRole('columnheader', { name: 'Host' })).toBeTruthy()
  expect(screen.queryByRole('columnheader', { name: 'Size' })).toBeNull()
})

it('shows filters with counts, without those that leave nothing over', async () => {
  const pick = vi.fn()
  draw(<Chips label="State" value="held" onPick={pick} chips={[{ value: '', label: 'all', count: 9 }, { value: 'held', label: 'held', count: 0 }, { value: 'failed', label: 'faults', count: 0 },
    { value: 'behind', label: 'behind', count: 2 }]} />)
  const group = within(screen.getByRole('group', { name: 'State' }))
  expect(group.getAllByRole('button').map((b) => b.textContent)).toEqual(['all9', 'held0', 'behind2'])
  expect(group.getByRole('button', { name: /held/ }).getAttribute('aria-pressed')).toBe('true')
  await userEvent.click(group.getByRole('button', { name: /behind/ }))
  await userEvent.click(group.getByRole('button', { name: /held/ }))
  expect(pick.mock.calls).toEqual([['behind'], ['']])
})

it('has headings for the columns of a short table, and its name for who cannot see it', () => {
  draw(<Rows caption="Schools" rows={schools.slice(0, 2)} by={(s) => s.name} columns={[{ head: 'School', cell: (s) => s.name }, { head: '', cell: () => <button>Open</button> }]} />)
  expect(screen.getByRole('table', { name: 'Schools' })).toBeTruthy()
  expect(screen.getAllByRole('columnheader').length).toBe(1)
  expect(screen.getAllByRole('button').length).toBe(2)
})

function Counted() {
  const [n, set] = useState(0)
  return <button type="button" onClick={() => set(n + 1)}>pressed {n} times</button>
}

function Redrawn() {
  const [, draw] = useState(0)
  return (
    <>
      <button type="button" onClick={() => draw((n) => n + 1)}>again</button>
      <List name="counted" caption="Counted" rows={schools.slice(0, 1)} by={(s) => s.name} columns={[{ id: 'name', head: 'Name', cell: () => <Counted /> }]} />
    </>
  )
}

it('keeps what stands in its cells when it is drawn again', async () => {
  draw(<Redrawn />)
  const user = userEvent.setup()
  await user.click(await screen.findByText('pressed 0 times'))
  await user.click(screen.getByText('again'))
  expect(screen.getByText('pressed 1 times')).toBeTruthy()
})
