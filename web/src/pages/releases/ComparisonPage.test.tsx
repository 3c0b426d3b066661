// @vitest-environment happy-dom
import { service } from '../../testing/service'
import { screen, within } from '@testing-library/react'
import userEvent from '@testing-library/user-event'
import { Route, Routes } from 'react-router'
import { expect, it } from 'vitest'
import { draw } from '../../testing/draw'
import { ComparisonPage } from './ComparisonPage'

const file = (path: string, packed: number, change = 'changed') => ({ path, packed, change, area: 'themes', before: 100, after: 100 + packed })
const comparison = {
  from: 'music-base@1', to: 'music-base@2', summary: 'larger', before: 28e6, after: 61e6, added: { files: 1, bytes: 33e6 }, removed: { files: 0, bytes: 0 }, changed: { files: 1, bytes: 58 },
  causes: [{ path: 'wp-content/uploads/copy.zip', sentence: '+31.5 MB by copy.zip, which was added', packed: 31.5e6 }], areas: [{ area: 'media', added: 1, removed: 0, changed: 0, bytes: 33e6, packed: 33e6 }],
  folders: [], files: [file('wp-content/uploads/copy.zip', 31.5e6, 'added'), file('wp-content/themes/quartet/style.css', 58)], more: 0, tables: [], more_values: 0,
  values: [{ where: 'option blogdescription', before: 'for everyone', after: '', change: 'changed' }],
}
const open = (to = 'music-base@2') => {
  service.answers['GET /runs/49'] = { id: 49, job: 'compare', title: 'Compare', status: 'done', who: 'ines', created_at: '2026-11-28T10:00:00Z', progress: { steps: [] } }
  service.answers['GET /comparisons/49'] = { ...comparison, to }
  service.answers['GET /releases/music-base%402'] = { ref: 'music-base@2', areas: [{ area: 'core', bytes: 1, files: 2000 }, { area: 'media', bytes: 1, files: 12 }] }
  draw(<Routes><Route path="/comparisons/:id" element={<ComparisonPage />} /></Routes>, '/comparisons/49')
}

it('folds files by folder, says how many are the same, and shows values side by side', async () => {
  open()
  const files = within(await screen.findByRole('list', { name: 'Files that differ' }))
  expect(files.getAllByRole('button', { expanded: true }).map((b) => b.textContent)).toEqual(['wp-content/uploads', 'wp-content/themes/quartet'])
  expect(await screen.findByText('2,010 files are the same in both.')).toBeTruthy()
  const user = userEvent.setup()
  await user.click(files.getByRole('button', { name: 'wp-content/uploads' }))
  expect(files.queryByText('copy.zip')).toBeNull()
  expect(screen.getByText('for everyone')).toBeTruthy()
  expect(screen.getByText('nothing')).toBeTruthy()
})

it('shows the lines of a text file that differ', async () => {
  open()
  service.answers['GET /releases/music-base%401/difference'] = { path: 'wp-content/themes/quartet/style.css', added: 1, removed: 1, places: [{ before: 3, after: 3, lines: [
    { change: 'same', text: ':root {' }, { change: 'removed', text: '  --ink: #222;' }, { change: 'added', text: '  --ink: #8a4b20;' }] }] }
  const user = userEvent.setup()
  expect(await screen.findByRole('button', { name: /^Lines of/ })).toBeTruthy()
  await user.click(screen.getByRole('button', { name: 'Lines of wp-content/themes/quartet/style.css' }))
  const lines = within(await screen.findByRole('region', { name: 'Lines of wp-content/themes/quartet/style.css that differ' }))
  expect(lines.getAllByRole('row').map((r) => r.textContent)).toEqual(['music-base@1music-base@2', 'line 3line 3', ':root {:root {', '  --ink: #222;  --ink: #8a4b20;'])
  expect(service.asked.find((a) => a.what.includes('/difference'))?.what).toContain('to=music-base%402&path=wp-content%2Fthemes%2Fquartet%2Fstyle.css')
})

it('has no lines of a source that is compared as it was then', async () => {
  open('source base today')
  expect(await screen.findByRole('list', { name: 'Files that differ' })).toBeTruthy()
  expect(screen.queryByRole('button', { name: /^Lines of/ })).toBeNull()
})
