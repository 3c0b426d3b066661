// @vitest-environment happy-dom
import { refused, service } from '../../testing/service'
import { screen, waitFor, within } from '@testing-library/react'
import userEvent from '@testing-library/user-event'
import { beforeEach, expect, it } from 'vitest'
import { draw } from '../../testing/draw'
import { Kinds } from './Kinds'

beforeEach(() => {
  service.answers['GET /kinds'] = [{ name: 'wordpress', title: 'WordPress', lists: ['starter', 'everything'], stock: true, fields: [] }]
  service.answers['GET /hosts'] = [{ name: 'preview', files: '', web_root: '', address: '', database: '' }]
})

it('checks a definition before it is added, and says what is wrong with it', async () => {
  service.answers['POST /kinds/check'] = ({ definition }: { definition: string }) =>
    definition.includes('broken') ? refused(422, 'line 1: "broken" is not known') : { name: 'notices', title: 'Notices', lists: ['starter'] }
  service.answers['POST /kinds'] = { name: 'notices' }
  draw(<Kinds />)
  const user = userEvent.setup()
  expect(await screen.findByText('comes with Nest Seed')).toBeTruthy()
  await user.click(screen.getByRole('button', { name: 'Add a kind' }))
  const dialog = within(screen.getByRole('dialog'))
  expect(dialog.getByRole<HTMLButtonElement>('button', { name: 'Add it' }).disabled).toBe(true)
  const text = dialog.getByLabelText('Definition')
  await user.type(text, 'broken: yes')
  await user.click(dialog.getByRole('button', { name: 'Check it' }))
  expect((await dialog.findByRole('alert')).textContent).toBe('Line 1: "broken" is not known')
  await user.clear(text)
  await user.type(text, 'kind: notices')
  expect(dialog.queryByRole('alert')).toBeNull()
  await user.click(dialog.getByRole('button', { name: 'Check it' }))
  expect(await dialog.findByText('It can be read: Notices, with starter.')).toBeTruthy()
  await user.click(dialog.getByRole('button', { name: 'Add it' }))
  await waitFor(() => expect(service.asked.find((a) => a.what === 'POST /kinds')?.body).toEqual({ definition: 'kind: notices' }))
})

it('proposes one from what is in a folder', async () => {
  service.answers['POST /kinds/draft'] = { definition: 'kind: notices\n# from what was found' }
  service.answers['GET /hosts/preview/folders'] = { folders: [{ name: 'notices' }], more: false }
  draw(<Kinds />)
  const user = userEvent.setup()
  await user.click(await screen.findByRole('button', { name: 'Add a kind' }))
  const dialog = within(screen.getByRole('dialog'))
  await user.click(dialog.getByText('Propose one from what is in a folder'))
  await user.type(dialog.getByLabelText('Name of the kind'), 'notices')
  await user.type(dialog.getByLabelText('Folder'), 'notices')
  await user.click(dialog.getByRole('button', { name: 'Propose it' }))
  await waitFor(() => expect(dialog.getByLabelText<HTMLTextAreaElement>('Definition').value).toContain('# from what was found'))
  expect(service.asked.find((a) => a.what === 'POST /kinds/draft')?.body).toEqual({ name: 'notices', host: 'preview', path: 'notices' })
})
