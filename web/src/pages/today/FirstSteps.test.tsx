// @vitest-environment happy-dom
import { service } from '../../testing/service'
import { screen, waitFor } from '@testing-library/react'
import userEvent from '@testing-library/user-event'
import { beforeEach, expect, it } from 'vitest'
import { draw } from '../../testing/draw'
import { FirstSteps } from './FirstSteps'

const day = { sources: 0, starters: 0, clients: 0, sites: 0, hosts: 0, working: 0, groups: [], more: 0, tasks: [], all_tasks: 0, held: [], leading: [], behind: [], ending: [], uncopied: 0 }

beforeEach(() => {
  for (const what of ['sources', 'starters', 'releases', 'hosts']) service.answers[`GET /${what}`] = []
  service.answers['GET /sample'] = { there: false }
})

it('has one step at a time to do, with its button', async () => {
  draw(<FirstSteps today={day} />)
  expect(screen.getByText('0 of 7 done')).toBeTruthy()
  expect(screen.getAllByRole('listitem', { current: 'step' }).map((s) => s.querySelector('p')!.textContent)).toEqual(['Add a host'])
  expect(screen.getByRole('button', { name: 'Add a host' })).toBeTruthy()
  expect(screen.queryByRole('button', { name: 'Add a source' })).toBeNull()
  expect(screen.queryByText(/made-up data/)).toBeNull()
})

it('goes on where somebody has stopped', async () => {
  service.answers['GET /sources'] = [{ name: 'base', survey: { findings: [] } }]
  service.answers['GET /starters'] = [{ name: 'music-base' }]
  draw(<FirstSteps today={{ ...day, hosts: 1, sources: 1, starters: 1 }} />)
  expect((await screen.findByRole('link', { name: 'Go to music-base' })).getAttribute('href')).toBe('/starters/music-base')
  expect(screen.getByText('4 of 7 done')).toBeTruthy()
})

it('offers the sample where there is one, and takes it', async () => {
  service.answers['GET /sample'] = { there: true, about: 'The base site of Loom & Ladder.' }
  service.answers['POST /sample'] = { id: 1 }
  draw(<FirstSteps today={day} />)
  expect(await screen.findByText('The base site of Loom & Ladder.')).toBeTruthy()
  await userEvent.setup().click(screen.getByRole('button', { name: 'Try it with the demo data' }))
  await waitFor(() => expect(service.asked.some((a) => a.what === 'POST /sample')).toBe(true))
})
