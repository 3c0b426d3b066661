// @vitest-environment happy-dom
import { refused, service } from '../../testing/service'
import { screen, waitFor, within } from '@testing-library/react'
import userEvent from '@testing-library/user-event'
import { beforeEach, expect, it } from 'vitest'
import { draw } from '../../testing/draw'
import { Vault } from './Vault'

const at = '2026-11-20T09:00:00Z'

beforeEach(() => {
  service.answers['GET /me'] = { name: 'ines', role: 'builder' }
  service.answers['GET /vault'] = [
    { noun: 'site', owner: 'alder-valley', name: 'administrator', created_at: at }, { noun: 'site', owner: 'alder-valley', name: 'database', created_at: at },
    { noun: 'client', owner: 'brook-lane', name: 'booking_licence', created_at: at },
  ]
  service.answers['GET /audit'] = [{ at, who: 'omar', what: 'revealed administrator of site alder-valley' }]
})

it('groups secrets by what they belong to, and finds them', async () => {
  draw(<Vault />)
  const owners = within(await screen.findByRole('list', { name: 'Secrets by owner' }))
  expect(owners.getByRole('link', { name: 'alder-valley' }).getAttribute('href')).toBe('/sites/alder-valley')
  expect(owners.getByRole('link', { name: 'brook-lane' }).getAttribute('href')).toBe('/clients/brook-lane')
  expect(screen.getByText('revealed administrator of site alder-valley')).toBeTruthy()
  expect(screen.queryByRole('button', { name: 'New key…' })).toBeNull()
  const user = userEvent.setup()
  await user.type(screen.getByRole('searchbox'), 'licence')
  await waitFor(() => expect(screen.queryByRole('link', { name: 'alder-valley' })).toBeNull())
  expect(screen.getByText('booking_licence')).toBeTruthy()
  await user.type(screen.getByRole('searchbox'), 's for nobody')
  expect(await screen.findByText('No matches.')).toBeTruthy()
})

it('shows a secret only when it is asked for, and hides it again', async () => {
  service.answers['POST /vault/reveal'] = (r: { name: string }) => (r.name === 'administrator' ? { secret: 'made-up-secret' } : refused(403, 'only builders and owners see secrets'))
  draw(<Vault />)
  const user = userEvent.setup()
  await user.click(await screen.findByRole('button', { name: 'Reveal: administrator of alder-valley' }))
  expect(service.asked.some((a) => a.what === 'POST /vault/reveal')).toBe(false)
  await user.click(within(screen.getByRole('dialog')).getByRole('button', { name: 'Reveal' }))
  expect(await screen.findByText('made-up-secret')).toBeTruthy()
  expect(service.asked.find((a) => a.what === 'POST /vault/reveal')?.body).toEqual({ noun: 'site', owner: 'alder-valley', name: 'administrator' })
  await user.click(screen.getByRole('button', { name: /Hide/ }))
  expect(screen.queryByText('made-up-secret')).toBeNull()
})
