// @vitest-environment happy-dom
import { screen, within } from '@testing-library/react'
import { Route, Routes } from 'react-router'
import { expect, it } from 'vitest'
import { draw } from '../../testing/draw'
import { service } from '../../testing/service'
import { RunPage } from './RunPage'

const run = {
  id: 12, job: 'build', title: 'Build music-base', about: { noun: 'starter', name: 'music-base' }, status: 'working', who: 'ines', created_at: '2026-11-28T10:00:00Z', started_at: '2026-11-28T10:00:00Z',
  progress: { step: 'Pack', steps: [{ name: 'Read', ms: 120 }, { name: 'Pack', ms: 0 }], fraction: 0.4, done: { files: 4, rows: 0, bytes: 0 }, expected: { files: 10, rows: 0, bytes: 0 }, bytes_per_second: 0, seconds_left: 2 },
}
const open = () => draw(<Routes><Route path="/runs/:id" element={<RunPage />} /></Routes>, '/runs/12')

it('shows the steps that were and those that are ahead', async () => {
  service.answers['GET /runs/12'] = run
  service.answers['GET /runs/12/log'] = []
  service.answers['GET /runs/12/ahead'] = { run: 7, steps: [{ name: 'Count', ms: 5 }, { name: 'Pack', ms: 700 }, { name: 'Verify', ms: 900 }] } // of a moment before
  open()
  expect(await screen.findByText('Verify')).toBeTruthy()
  const steps = screen.getAllByRole('listitem').filter((l) => /Read|Pack|Verify/.test(l.textContent))
  expect(steps.map((s) => s.textContent)).toEqual(['1Read120 ms', '2Pack…', '3Verifyabout 900 ms'])
  expect(steps[1]!.getAttribute('aria-current')).toBe('step')
  expect(within(screen.getByText(/What is ahead is known from/)).getByRole('link').getAttribute('href')).toBe('/runs/7')
})

it('of a run that is over shows what it did, and how to do it again', async () => {
  service.answers['GET /runs/12'] = { ...run, status: 'failed', ended_at: '2026-11-28T10:01:00Z', error: 'the disk is full', repeats: true }
  service.answers['GET /runs/12/log'] = [{ id: 1, at: '2026-11-28T10:00:30Z', sentence: 'no room' }]
  open()
  expect(await screen.findByText('the disk is full')).toBeTruthy()
  expect(screen.getByRole('button', { name: 'Try again' })).toBeTruthy()
  expect(screen.queryByText('Verify')).toBeNull()
})
