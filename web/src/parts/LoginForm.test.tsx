// @vitest-environment happy-dom
import { service } from '../testing/service'
import { screen, waitFor } from '@testing-library/react'
import userEvent from '@testing-library/user-event'
import { expect, it, vi } from 'vitest'
import { useMe } from '../api/hooks'
import { drafts } from '../lib/drafts'
import { draw } from '../testing/draw'
import { LoginForm } from './LoginForm'

function Page() {
  const me = useMe().data
  return me ? <LoginForm name={me.name} /> : null
}

it('keeps what was typed for who typed it, and for nobody else', async () => {
  service.answers['GET /me'] = { name: 'ines', role: 'editor' }
  service.answers['POST /login'] = {}
  const gone = vi.spyOn(location, 'assign').mockImplementation(() => {})
  draw(<Page />)
  const user = userEvent.setup()
  await user.type(await screen.findByLabelText('Password'), 'seven quiet oboes')
  drafts.write('a list', 'typed')
  await user.click(screen.getByRole('button', { name: 'Log in' }))
  await waitFor(() => expect(service.asked.filter((a) => a.what === 'GET /me').length).toBe(2))
  expect(drafts.read('a list')).toBe('typed')
  expect(gone).not.toHaveBeenCalled()

  await user.clear(screen.getByLabelText('Name'))
  await user.type(screen.getByLabelText('Name'), 'tomas')
  await user.click(screen.getByRole('button', { name: 'Log in' }))
  await waitFor(() => expect(gone).toHaveBeenCalledWith('/'))
  expect(drafts.read('a list')).toBeUndefined()
})
