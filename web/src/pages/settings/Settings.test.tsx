// @vitest-environment happy-dom
import { service } from '../../testing/service'
import { cleanup, screen, waitFor, within } from '@testing-library/react'
import userEvent from '@testing-library/user-event'
import { expect, it } from 'vitest'
import { draw } from '../../testing/draw'
import { Settings } from './Settings'

it('shows what a client will see while it is typed, and keeps it', async () => {
  service.answers['GET /me'] = { name: 'ines', role: 'owner' }
  service.answers['GET /agency'] = { name: 'Loom & Ladder', contact: 'studio@loom-ladder.example', colour: '#8a5fa8' }
  service.answers['PUT /agency'] = (a: unknown) => a
  draw(<Settings />)
  const user = userEvent.setup()
  await screen.findByRole('button', { name: 'Save' }) // for owners
  const name = screen.getByLabelText<HTMLInputElement>('Agency')
  const shown = within(screen.getByRole('article'))
  expect(shown.getByText('Loom & Ladder')).toBeTruthy()
  await user.clear(name)
  await user.type(name, 'Loom & Ladder Studio')
  expect(shown.getByText('Loom & Ladder Studio')).toBeTruthy()
  cleanup() // the page is left, and come back to
  draw(<Settings />)
  expect((await screen.findByLabelText<HTMLInputElement>('Agency')).value).toBe('Loom & Ladder Studio')
  await user.click(await screen.findByRole('button', { name: 'Discard' }))
  expect(screen.getByLabelText<HTMLInputElement>('Agency').value).toBe('Loom & Ladder')
  await user.type(screen.getByLabelText('Agency'), ' Studio')
  await user.upload(screen.getByLabelText('Logo'), new File(['a logo'], 'logo.png', { type: 'image/png' }))
  cleanup()
  draw(<Settings />)
  await user.click(await screen.findByRole('button', { name: 'Save' }))
  await waitFor(() => expect(service.asked.find((a) => a.what === 'PUT /agency')?.body)
    .toMatchObject({ name: 'Loom & Ladder Studio', contact: 'studio@loom-ladder.example', logo: btoa('a logo') }))
  expect(await screen.findByText('Saved.')).toBeTruthy()
  expect(screen.queryByRole('button', { name: 'Discard' })).toBeNull()
})
