// @vitest-environment happy-dom
import { refused, service } from '../../testing/service'
import { screen, waitFor } from '@testing-library/react'
import userEvent from '@testing-library/user-event'
import { Route, Routes } from 'react-router'
import { expect, it } from 'vitest'
import { draw, withHeight } from '../../testing/draw'
import { ClientPage } from './ClientPage'
import { ImportClients } from './ImportClients'
import { SettingsTable } from './SettingsTable'

it('adds the clients of a table, and names those that it could not add', async () => {
  service.answers['POST /clients'] = (c: { name: string }) => (c.name === 'taken' ? refused(409, 'there is a client "taken" already') : c)
  draw(<ImportClients />)
  const user = userEvent.setup()
  await user.click(screen.getByRole('button', { name: 'From a table…' }))
  expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Add them' }).disabled).toBe(true)
  await user.click(screen.getByLabelText('Or paste it'))
  await user.paste('name\ttitle\temail\nalder\tAlder Valley\t\ntaken\tTaken\t\n')
  expect(await screen.findByText(/2 rows from what was pasted/)).toBeTruthy()
  await user.click(screen.getByRole('button', { name: 'Add 2' }))
  expect((await screen.findByRole('alert')).textContent).toContain('1 of 2 were added. taken: There is a client "taken" already')
  expect(service.asked.filter((a) => a.what === 'POST /clients')[0]!.body).toEqual({ name: 'alder', settings: { title: 'Alder Valley' } })
  await user.keyboard('{Escape}')
  await user.click(screen.getByRole('button', { name: 'From a table…' }))
  expect(await screen.findByText(/1 row from what was given before/)).toBeTruthy()
  expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Add 1' }).disabled).toBe(false)
})

it('says what is wrong with a table before anything is sent', async () => {
  draw(<ImportClients />)
  const user = userEvent.setup()
  await user.click(screen.getByRole('button', { name: 'From a table…' }))
  await user.click(screen.getByLabelText('Or paste it'))
  await user.paste('title\nAlder\n')
  expect((await screen.findByRole('alert')).textContent).toContain('no column “name”')
})

it('says which settings a starter asks for that a client lacks, and takes them', async () => {
  service.answers['GET /clients/alder'] = { name: 'alder', sites: 0, created_at: '2026-11-01T00:00:00Z', settings: { title: { value: 'Alder Valley' }, licence: { value: '', secret: true } } }
  service.answers['GET /sites'] = { sites: [], total: 0, states: {} }
  service.answers['GET /starters'] = [{ name: 'music-base', kind: 'wordpress', releases: 1 }]
  service.answers['GET /starters/music-base/packing'] = { list: { list: 'a', fields: [{ key: 'title', label: 'Site title', required: true, to: [] }, { key: 'measurement', label: 'Measurement id', example: 'M-1A2B3C', required: true, to: [] },
    { key: 'founded', label: 'Founded', to: [] }] } }
  service.answers['PATCH /clients/alder/settings'] = {}
  draw(<Routes><Route path="clients/:name" element={<ClientPage />} /></Routes>, '/clients/alder')
  expect(await screen.findByText('Measurement id')).toBeTruthy()
  expect(screen.queryByText('Founded')).toBeNull()
  expect(screen.getAllByRole('row').slice(1).map((r) => r.querySelector('td')?.textContent)).toEqual(['licence', 'Site titletitle'])
  expect(screen.getByRole('button', { name: 'Reveal: licence of alder' })).toBeTruthy()
  const user = userEvent.setup()
  await user.click(screen.getByRole('button', { name: 'Fill in' }))
  await user.type(screen.getByLabelText('Measurement id'), 'M-7K2P4D')
  await user.click(screen.getByRole('button', { name: 'Save' }))
  await waitFor(() => expect(service.asked.find((a) => a.what.startsWith('PATCH'))?.body).toEqual({ settings: { measurement: 'M-7K2P4D' } }))
})

it('gives a client the logo that a starter asks for, and shows it', async () => {
  service.answers['GET /clients/alder'] = { name: 'alder', sites: 0, created_at: '2026-11-01T00:00:00Z', settings: { accent: { value: '#8a5fa8' }, prices: { value: `file:${'a'.repeat(64)}/prices.pdf` }, badge: { value: `file:${'c'.repeat(64)}/badge.jpg` } } }
  service.answers['GET /sites'] = { sites: [], total: 0, states: {} }
  service.answers['GET /starters'] = [{ name: 'music-base', kind: 'wordpress', releases: 1 }]
  service.answers['GET /starters/music-base/packing'] = { list: { list: 'a', fields: [{ key: 'logo', label: 'Logo', type: 'image', required: true, to: [] }, { key: 'accent', label: 'Colour', type: 'colour', to: [] }, { key: 'prices', label: 'Prices', type: 'file', to: [] }, { key: 'badge', label: 'Badge', type: 'image', to: [] }] } }
  const value = `file:${'b'.repeat(64)}/logo.png`
  service.answers['POST /clients/alder/files'] = (f: { name: string }) => (f.name === 'logo.png' ? { value, name: 'logo.png', type: 'image/png', bytes: 3, width: 30, height: 10 } : refused(422, `the file is refused: files like ${f.name} are not taken from clients`))
  service.answers['PATCH /clients/alder/settings'] = {}
  draw(<Routes><Route path="clients/:name" element={<ClientPage />} /></Routes>, '/clients/alder')
  expect(await screen.findByText('prices.pdf')).toBeTruthy()
  expect((await screen.findByAltText('Badge')).getAttribute('src')).toBe(`/api/v1/clients/alder/files/${'c'.repeat(64)}`)
  const user = userEvent.setup({ applyAccept: false })
  await user.click(await screen.findByRole('button', { name: 'Fill in' }))
  const box = screen.getByLabelText<HTMLInputElement>('Logo')
  await user.upload(box, new File(['<?php'], 'shell.php'))
  expect(await screen.findByText(/files like shell.php are not taken/)).toBeTruthy()
  await user.upload(box, new File(['png'], 'logo.png', { type: 'image/png' }))
  expect(await screen.findByAltText('Logo, as it was chosen')).toBeTruthy()
  await user.click(screen.getByRole('button', { name: 'Save' }))
  await waitFor(() => expect(service.asked.find((a) => a.what.startsWith('PATCH'))?.body).toEqual({ settings: { logo: value } }))
  expect(service.asked.find((a) => a.what.startsWith('POST'))?.body).toMatchObject({ name: 'shell.php' })
})

it('lets settings be changed in their cells', async () => {
  service.answers['GET /starters/music-base/packing'] = { list: { list: 'a', fields: [{ key: 'title', label: 'Site title', required: true, to: [] },
    { key: 'measurement', label: 'Measurement id', pattern: 'M-[A-Z0-9]{6}', example: 'M-1A2B3C', required: true, to: [] }, { key: 'key', label: 'Key', secret: true, to: [] }] } }
  service.answers['GET /clients'] = { total: 1, clients: [{ name: 'alder', title: 'Alder Valley', email: '', settings: 2, sites: 0, created_at: '2026-11-01T00:00:00Z', values: { title: { value: 'Alder Valley' }, key: { value: '', secret: true } } }] }
  service.answers['PATCH /clients/alder/settings'] = {}
  withHeight()
  draw(<SettingsTable starter="music-base" find="" />)
  const user = userEvent.setup()
  await user.click(await screen.findByRole('button', { name: 'Measurement id of alder: missing' }))
  await user.keyboard('nonsense{Enter}')
  expect((await screen.findByRole('alert')).textContent).toBe('like M-1A2B3C')
  await user.keyboard('{Escape}')
  expect(screen.getByText('missing')).toBeTruthy()
  expect(service.asked.some((a) => a.what.startsWith('PATCH'))).toBe(false)
  await user.keyboard('{Enter}M-AAAAAA{Enter}') // the cell has the focus again
  await waitFor(() => expect(service.asked.find((a) => a.what === 'PATCH /clients/alder/settings')?.body).toEqual({ settings: { measurement: 'M-AAAAAA' } }))
  expect(screen.getByText('in the vault')).toBeTruthy()
  expect(screen.getByRole('button', { name: 'Change: Key of alder' })).toBeTruthy()
})
