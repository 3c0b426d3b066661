// @vitest-environment happy-dom
import { service } from '../../testing/service'
import { screen } from '@testing-library/react'
import userEvent from '@testing-library/user-event'
import { expect, it, vi } from 'vitest'
import { draw } from '../../testing/draw'
import { Fields } from './Fields'

it('lets people look into the source for the value that a field takes the place of', async () => {
  service.answers['GET /sources/base/values'] = (_: unknown, url: URL) => url.searchParams.get('option')
    ? { values: [{ option: 'loom_school', path: ['contact', 'phone'], text: '01632 960101' }, { option: 'loom_school', path: ['licence', 'agency'], secret: true }] }
    : { values: [{ setting: 'WP_LANG' }, { option: 'loom_school', inside: 2 }] }
  const added = vi.fn()
  draw(<Fields fields={[{ key: 'phone', label: 'Telephone', to: [{ option: 'x' }] }]} source="base" onAdd={added} />)
  expect(screen.getByText(/→ x/)).toBeTruthy()
  const user = userEvent.setup()
  await user.click(screen.getByRole('button', { name: 'Add a field…' }))
  expect(await screen.findByText('setting WP_LANG')).toBeTruthy()
  await user.click(screen.getByRole('button', { name: /loom_school/ }))
  expect(await screen.findByText('secret')).toBeTruthy()
  await user.click(screen.getByRole('button', { name: /contact › phone/ }))
  expect(screen.getByText(/where the source has “01632 960101”/)).toBeTruthy()
  await user.click(screen.getByRole('button', { name: 'Add the field' }))
  expect(screen.getByText('there is a field phone already')).toBeTruthy()
  const name = screen.getByLabelText('Name')
  await user.clear(name)
  await user.type(name, 'telephone')
  await user.click(screen.getByRole('button', { name: 'Add the field' }))
  expect(added).toHaveBeenCalledWith({ key: 'telephone', label: 'Phone', type: 'text', required: false, place: { option: 'loom_school', path: ['contact', 'phone'], text: '01632 960101' } })
})
