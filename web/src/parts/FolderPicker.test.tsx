// @vitest-environment happy-dom
import { refused, service } from '../testing/service'
import { screen, waitFor } from '@testing-library/react'
import userEvent from '@testing-library/user-event'
import { useState } from 'react'
import { expect, it } from 'vitest'
import { FolderPicker } from './FolderPicker'
import { draw } from '../testing/draw'

function Picking() {
  const [path, setPath] = useState('')
  return <FolderPicker id="path" name="path" host="preview" value={path} onPick={setPath} />
}

it('goes down and up through the folders of a host, and takes the one that looks like a site', async () => {
  service.answers['GET /kinds'] = [{ name: 'wordpress', title: 'WordPress', lists: [], keep: [], holds: true, stock: true }]
  service.answers['GET /hosts/preview/folders'] = (_: unknown, url: URL) => url.searchParams.get('path') === 'clients'
    ? { folders: [{ name: 'base', kind: 'wordpress' }], more: false } : { folders: [{ name: 'clients' }, { name: 'logs' }], more: true }
  draw(<Picking />)
  const user = userEvent.setup()
  await user.click(screen.getByRole('button', { name: 'Look for it' }))
  await user.click(await screen.findByRole('button', { name: 'clients' }))
  expect(await screen.findByText('WordPress')).toBeTruthy()
  await user.click(screen.getByRole('button', { name: 'One folder up' }))
  expect(await screen.findByText('There are more; type the rest of the path.')).toBeTruthy()
  await user.click(screen.getByRole('button', { name: 'clients' }))
  await user.click(await screen.findByRole('button', { name: 'Take it' }))
  expect(document.querySelector<HTMLInputElement>('[name=path]')!.value).toBe('clients/base')
  expect(screen.queryByRole('list')).toBeNull()
})

it('says why a folder cannot be read', async () => {
  service.answers['GET /kinds'] = []
  service.answers['GET /hosts/preview/folders'] = () => refused(422, 'the folder "x" of host preview cannot be read: permission denied')
  draw(<Picking />)
  await userEvent.click(screen.getByRole('button', { name: 'Look for it' }))
  await waitFor(() => expect(screen.getByRole('alert').textContent).toContain('permission denied'))
})
