// @vitest-environment happy-dom
import { refused, service } from '../../testing/service'
import { screen, within } from '@testing-library/react'
import userEvent from '@testing-library/user-event'
import { Route, Routes } from 'react-router'
import { expect, it } from 'vitest'
import { draw } from '../../testing/draw'
import { HostPage } from './HostPage'
import { Hosts } from './Hosts'

const host = { name: 'preview', files: 'file:///srv/www', web_root: '{name}', address: 'http://{name}.preview.example', database: 'mysql://admin@127.0.0.1/' }
const page = () => draw(<Routes><Route path="/hosts/:name" element={<HostPage />} /></Routes>, '/hosts/preview')

function prepare(of: object) {
  service.answers['GET /hosts/preview'] = { ...host, ...of }
  service.answers['GET /sites'] = { sites: [], total: 0, states: {} }
  service.answers['GET /sources'] = []
  service.answers['GET /installs'] = []
}

it('says what to begin with where there is no host', async () => {
  service.answers['GET /hosts'] = []
  service.answers['GET /installs'] = []
  service.answers['GET /releases'] = []
  draw(<Hosts />)
  expect(await screen.findByText(/Everything begins with one/)).toBeTruthy()
  expect(screen.getByRole('button', { name: 'Add a host' })).toBeTruthy()
})

it('puts what the service refuses at its field, and keeps what was typed', async () => {
  service.answers['GET /hosts'] = [host]
  service.answers['GET /installs'] = []
  service.answers['GET /releases'] = []
  service.answers['POST /hosts'] = refused(422, 'validation failed', [{ location: 'body.files', message: 'there is no such folder' }])
  draw(<Hosts />)
  const user = userEvent.setup()
  await user.click(await screen.findByRole('button', { name: 'Add a host' }))
  const dialog = within(screen.getByRole('dialog'))
  for (const [label, text] of [['Name', 'studio'], ['Files', 'file:///nowhere'], ['Address of a site', 'http://{{name}.studio.example'], ['Database server', 'mysql://admin@127.0.0.1/']]) {
    await user.type(dialog.getByLabelText(label!), text!)
  }
  await user.click(dialog.getByRole('button', { name: 'Add' }))
  expect(await dialog.findByText('There is no such folder')).toBeTruthy()
  expect(dialog.getByLabelText('Files').getAttribute('aria-invalid')).toBe('true')
  expect(dialog.getByLabelText<HTMLInputElement>('Name').value).toBe('studio')
})

it('says how much room a host has, and how many sites more fit', async () => {
  prepare({ room: { free_bytes: 2_500_000_000, at: '2026-11-28T10:00:00Z' }, use: { sites: 21, bytes: 793_000_000, largest: 67_000_000 } })
  page()
  expect(await screen.findByText('2.5 GB')).toBeTruthy()
  expect(screen.getByText(/21 sites of/).textContent).toBe('21 sites of 793 MB, the largest 67 MB. 37 more like that fit.')
})

it('says when a host is full, away, or does not tell', async () => {
  prepare({ room: { free_bytes: 10_000_000, at: '2026-11-28T10:00:00Z' }, use: { sites: 1, bytes: 67_000_000, largest: 67_000_000 } })
  const first = page()
  expect((await screen.findByText(/1 site of/)).textContent).toContain('Another like that does not fit.')
  first.unmount()
  prepare({ room: { at: '2026-11-28T10:00:00Z', trouble: 'nobody answers at 10.0.0.7' } })
  const second = page()
  expect(await screen.findByText('It could not be reached: nobody answers at 10.0.0.7')).toBeTruthy()
  second.unmount()
  prepare({ room: { at: '2026-11-28T10:00:00Z' } })
  const third = page()
  expect(await screen.findByText('The host does not tell how much is free.')).toBeTruthy()
  third.unmount()
  prepare({})
  page()
  expect(await screen.findByText('Nobody has looked yet: test the host.')).toBeTruthy()
})

it('shows each step of a test, and what to ask the hosting company', async () => {
  prepare({})
  service.answers['POST /hosts/preview/test'] = { runtimes: [], steps: [{ name: 'log-in', result: 'pass', sentence: 'the files are reached' },
    { name: 'space', result: 'fail', sentence: '12 MB free; no site fits', remedy: 'Please give our account more space.' }] }
  page()
  await userEvent.setup().click(await screen.findByRole('button', { name: 'Test it' }))
  expect(await screen.findByText(/12 MB free/)).toBeTruthy()
  expect(screen.getByLabelText<HTMLTextAreaElement>('What to ask the hosting company').value).toBe('- Please give our account more space.')
})
