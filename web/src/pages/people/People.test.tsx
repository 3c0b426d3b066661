// @vitest-environment happy-dom
import { refused, service } from '../../testing/service'
import { screen, waitFor, within } from '@testing-library/react'
import userEvent from '@testing-library/user-event'
import { beforeEach, expect, it } from 'vitest'
import { draw } from '../../testing/draw'
import { People } from './People'

const since = '2026-11-01T09:00:00Z'

beforeEach(() => {
  service.answers['GET /users'] = [{ name: 'ines', role: 'owner', created_at: since }, { name: 'omar', role: 'builder', created_at: since }]
  service.answers['GET /tokens'] = []
})

it('lets owners add people, and holds what is typed to the limits of the service', async () => {
  service.answers['GET /me'] = { name: 'ines', role: 'owner' }
  service.answers['POST /users'] = (u: { name: string }) => (u.name === 'omar' ? refused(409, 'there is a user "omar" already') : u)
  draw(<People />)
  const user = userEvent.setup()
  await user.click(await screen.findByRole('button', { name: 'Add a user' }))
  const dialog = within(screen.getByRole('dialog'))
  await user.type(dialog.getByLabelText('Name'), 'Omar B')
  await user.type(dialog.getByLabelText('Password'), 'short')
  await user.click(dialog.getByRole('button', { name: 'Add' }))
  expect(await dialog.findByText('Not in the form that is asked for: small letters, digits, dots, dashes.')).toBeTruthy()
  expect(dialog.getByText('At least 10 characters.')).toBeTruthy()
  expect(service.asked.some((a) => a.what === 'POST /users')).toBe(false)

  await user.clear(dialog.getByLabelText('Name'))
  await user.type(dialog.getByLabelText('Name'), 'omar')
  await user.type(dialog.getByLabelText('Password'), ' is long enough')
  await user.selectOptions(dialog.getByLabelText('Role'), 'viewer')
  await user.click(dialog.getByRole('button', { name: 'Add' }))
  expect((await dialog.findByRole('alert')).textContent).toBe('There is a user "omar" already')
  expect(service.asked.find((a) => a.what === 'POST /users')?.body).toEqual({ name: 'omar', role: 'viewer', password: 'short is long enough' })
})

it('lets everyone change their own password, and only owners those of others', async () => {
  service.answers['GET /me'] = { name: 'omar', role: 'builder' }
  draw(<People />)
  expect(await screen.findByText(', you')).toBeTruthy()
  expect(screen.getByRole('button', { name: 'Change your password' })).toBeTruthy()
  expect(screen.queryByRole('button', { name: 'Add a user' })).toBeNull()
  expect(screen.queryByRole('button', { name: 'Password…' })).toBeNull()
  expect(screen.queryByRole('button', { name: 'Remove…' })).toBeNull()
})

it('shows a token once', async () => {
  service.answers['GET /me'] = { name: 'ines', role: 'owner' }
  service.answers['POST /tokens'] = { token: 'nst_made-up' }
  draw(<People />)
  const user = userEvent.setup()
  await user.click(await screen.findByRole('button', { name: 'Make a token' }))
  await user.click(screen.getByRole('button', { name: 'Make it' }))
  expect(await screen.findByText('It is missing.')).toBeTruthy()
  await user.type(screen.getByLabelText('What is it for?'), 'nightly checks')
  await user.type(screen.getByLabelText('Days'), '9000')
  await user.click(screen.getByRole('button', { name: 'Make it' }))
  expect(await screen.findByText('At most 3650.')).toBeTruthy()
  await user.clear(screen.getByLabelText('Days'))
  await user.click(screen.getByRole('button', { name: 'Make it' }))
  expect(await screen.findByText('nst_made-up')).toBeTruthy()
  await waitFor(() => expect(screen.queryByRole('dialog')).toBeNull())
  expect(service.asked.find((a) => a.what === 'POST /tokens')?.body).toEqual({ name: 'nightly checks' })
})
