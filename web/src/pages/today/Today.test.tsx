// @vitest-environment happy-dom
import { service } from '../../testing/service'
import { screen, waitFor, within } from '@testing-library/react'
import userEvent from '@testing-library/user-event'
import { expect, it } from 'vitest'
import { draw } from '../../testing/draw'
import { Today } from './Today'

const day = { sources: 1, starters: 1, clients: 2, sites: 2, hosts: 1, working: 0, groups: [], more: 0, tasks: [], all_tasks: 0, held: [], leading: [], behind: [], ending: [], uncopied: 0 }
const warned = { severity: 'warning', sentence: 'values: 1 is broken', act: 'open', what: 'values' }

it('says that there is nothing when there is nothing', async () => {
  service.answers['GET /today'] = day
  service.answers['GET /runs'] = []
  draw(<Today />)
  expect(await screen.findByText(/Nothing: all sites passed their checks/)).toBeTruthy()
  expect(screen.queryByText('Launch tasks')).toBeNull()
  expect(screen.queryByText('Held for the client')).toBeNull()
})

it('gives each thing the button that settles it, and accepts what is known with its reason', async () => {
  service.answers['GET /today'] = { ...day, more: 3, groups: [
    { noun: 'run', name: '9', title: 'Survey base', severity: 'fault', items: [{ severity: 'fault', sentence: 'it failed: no room', act: 'retry' }] },
    { noun: 'site', name: 'alder', title: 'Alder Valley', severity: 'warning', items: [warned] }, { noun: 'site', name: 'brook', title: 'Brook Lane', severity: 'warning', items: [warned] },
    { noun: 'source', name: 'base', title: 'base', severity: 'note', items: [{ severity: 'note', sentence: 'it was never surveyed', act: 'survey' }] },
  ] }
  service.answers['GET /runs'] = []
  service.answers['POST /sources/base/survey'] = { id: 12 }
  service.answers['PUT /sites/alder/accepted'] = {}
  draw(<Today />)
  const attention = within(await screen.findByRole('list', { name: 'What needs attention' }))
  expect(attention.getByText('and 1 more site with just the same')).toBeTruthy()
  expect(attention.getAllByRole('button', { name: 'Accept…' }).length).toBe(1)
  expect(attention.getByRole('button', { name: 'Try again' })).toBeTruthy()
  const user = userEvent.setup()
  await user.click(attention.getByRole('button', { name: 'Accept…' }))
  await user.type(screen.getByLabelText('Why is it accepted?'), 'as in the source')
  expect(screen.getByRole<HTMLInputElement>('checkbox').checked).toBe(true)
  await user.click(screen.getByRole('button', { name: 'Accept it' }))
  await waitFor(() => expect(service.asked.find((a) => a.what.startsWith('PUT'))).toEqual({ what: 'PUT /sites/alder/accepted', body: { what: 'values', reason: 'as in the source', everywhere: true } }))
  await user.click(screen.getByRole('button', { name: 'Survey it' }))
  await waitFor(() => expect(service.asked.some((a) => a.what === 'POST /sources/base/survey')).toBe(true))
})

it('lists launch tasks by the day they are due, and ticks them off', async () => {
  service.answers['GET /today'] = { ...day, all_tasks: 2, tasks: [{ site: 'alder', title: 'Alder Valley', key: 'form', task: 'Send a message', due: '2020-01-02T00:00:00Z', page: 'http://alder.example/contact/' },
    { site: 'brook', title: '', key: 'ring', task: 'Ring them' }] }
  service.answers['GET /runs'] = []
  service.answers['PUT /sites/alder/tasks/form'] = {}
  draw(<Today />)
  expect((await screen.findByText('2 Jan')).className).toContain('clay')
  expect(screen.getByRole('link', { name: /Open/ }).getAttribute('href')).toBe('http://alder.example/contact/')
  await userEvent.click(screen.getByLabelText('Done: Send a message, Alder Valley'))
  await waitFor(() => expect(service.asked.find((a) => a.what.startsWith('PUT'))?.body).toEqual({ done: true }))
})

it('leads from nothing to the first site', async () => {
  service.answers['GET /today'] = { ...day, sites: 0, sources: 0, starters: 0, clients: 0, hosts: 1 }
  for (const list of ['sources', 'starters', 'releases', 'hosts']) service.answers[`GET /${list}`] = []
  service.answers['GET /hosts'] = [{ name: 'preview', files: 'file:///srv', web_root: '{name}', address: 'http://{name}.example', database: '', connect: '' }]
  draw(<Today />)
  const next = await screen.findByText('Add a source', { selector: 'p' })
  expect(next.closest('li')!.getAttribute('aria-current')).toBe('step')
  expect(screen.getByText('1 of 7 done')).toBeTruthy()
  expect(screen.getAllByRole('button', { name: /Add|Survey|Build/ }).map((b) => b.textContent)).toEqual(['Add a source'])
})

it('looks ahead: certificates, copies, and the room of hosts and of the service', async () => {
  const soon = new Date(Date.now() + 3 * 86_400_000).toISOString()
  service.answers['GET /today'] = { ...day, uncopied: 12, ending: [{ name: 'alder', title: 'Alder Valley', address: 'https://alder.example', ends: soon }], groups: [
    { noun: 'host', name: 'preview', title: 'preview', severity: 'warning', items: [{ severity: 'warning', sentence: '1.2 GB free', act: 'open' }] },
    { noun: 'service', name: 'disk', title: 'The disk of the service', severity: 'fault', items: [{ severity: 'fault', sentence: '100 MB free', act: 'open' }] },
  ] }
  service.answers['GET /runs'] = []
  draw(<Today />)
  expect((await screen.findByText('preview')).getAttribute('href')).toBe('/hosts/preview')
  expect(screen.getByText('The disk of the service').getAttribute('href')).toBe('/starters')
  expect(screen.getByText('12 public sites have no safety copy').getAttribute('href')).toBe('/sites?state=uncopied')
  expect(screen.getByText('Alder Valley').getAttribute('href')).toBe('/sites/alder#checks')
  expect(screen.queryByRole('button', { name: 'Accept…' })).toBeNull()
})
