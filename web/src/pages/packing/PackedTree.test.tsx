// @vitest-environment happy-dom
import { service } from '../../testing/service'
import { screen, waitFor, within } from '@testing-library/react'
import userEvent from '@testing-library/user-event'
import { expect, it, vi } from 'vitest'
import { draw } from '../../testing/draw'
import { PackedTree } from './PackedTree'

const node = (path: string, part: object = {}) => ({ path, name: path.split('/').pop(), folder: false, area: 'media', files: 1, bytes: 100, out_files: 0, out_bytes: 0, ...part })

const levels = {
  '': { all: 3, nodes: [node('uploads', { folder: true, files: 3, bytes: 900, out_files: 1, rule: '**/*.mp4' }), node('cache', { folder: true, files: 2, out_files: 2, rule: 'cache/**' }), node('index.php')],
    tables: [{ name: 'posts', rows: 9, bytes: 90, state: 'in' }, { name: 'log_a', rows: 1, bytes: 50, state: 'out', rule: 'tables: log_*' }] },
  uploads: { all: 600, nodes: [node('uploads/choir.mp4', { out_files: 1, rule: '**/*.mp4' }), node('uploads/choir.jpg')], tables: [] },
}

function tree(onEdit = vi.fn()) {
  service.answers['POST /starters/music-base/packing/level'] = (body: { path?: string; find?: string }) =>
    body.find ? { all: 1, nodes: [node('uploads/choir.jpg')], tables: [] } : levels[(body.path ?? '') as keyof typeof levels]
  draw(<PackedTree starter="music-base" text="list: a" busy={false} onEdit={onEdit} />)
  return onEdit
}

const choice = (what: string) => within(screen.getByRole('group', { name: `What becomes of ${what}` }))

it('shows what goes in, stays out and goes in partly, and by which rule', async () => {
  tree()
  expect(await screen.findByText('1 of 3 files out')).toBeTruthy()
  expect(choice('cache').getByRole('button', { name: 'out' }).getAttribute('aria-pressed')).toBe('true')
  expect(choice('uploads').getAllByRole('button').map((b) => b.getAttribute('aria-pressed'))).toEqual(['false', 'false'])
  await userEvent.click(screen.getByRole('button', { name: 'uploads' }))
  expect(await screen.findByText('and 598 smaller ones')).toBeTruthy()
  expect(choice('choir.mp4').getByRole<HTMLButtonElement>('button', { name: 'in' }).disabled).toBe(true)
  expect(screen.getByText('**/*.mp4', { selector: 'span.font-mono' })).toBeTruthy()
})

it('makes an edit of each click', async () => {
  const edit = tree()
  await screen.findByText('index.php')
  await userEvent.click(choice('index.php').getByRole('button', { name: 'out' }))
  await userEvent.click(choice('cache').getByRole('button', { name: 'in' }))
  await userEvent.click(choice('table posts').getByRole('button', { name: 'empty' }))
  await userEvent.click(choice('table posts').getByRole('button', { name: 'in' }))
  expect(edit.mock.calls).toEqual([[{ leave_out: ['index.php'] }], [{ put_back: ['cache/**'] }], [{ empty: ['posts'] }]])
  expect(choice('table log_a').getByRole<HTMLButtonElement>('button', { name: 'in' }).disabled).toBe(true)
})

it('is gone through by arrow keys', async () => {
  tree()
  const uploads = await screen.findByRole('button', { name: 'uploads' })
  uploads.focus()
  await userEvent.keyboard('{ArrowRight}')
  await screen.findByText('choir.jpg')
  await userEvent.keyboard('{ArrowRight}')
  expect(document.activeElement!.textContent).toBe('choir.mp4')
  await userEvent.keyboard('{ArrowLeft}')
  expect(document.activeElement).toBe(uploads)
  await userEvent.keyboard('{ArrowLeft}')
  expect(uploads.getAttribute('aria-expanded')).toBe('false')
  await userEvent.keyboard('{End}')
  expect(document.activeElement!.textContent).toBe('index.php')
  await userEvent.keyboard('{Home}{ArrowDown}')
  expect(document.activeElement!.textContent).toBe('cache')
})

it('finds files, and then shows no tables', async () => {
  tree()
  await screen.findByText('Tables')
  await userEvent.type(screen.getByLabelText('Find files'), 'choir')
  await waitFor(() => expect(screen.queryByText('Tables')).toBeNull())
  expect(screen.getByText('choir.jpg')).toBeTruthy()
})
