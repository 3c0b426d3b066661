// @vitest-environment happy-dom
import { service } from '../../testing/service'
import { screen, waitFor, within } from '@testing-library/react'
import userEvent from '@testing-library/user-event'
import { expect, it } from 'vitest'
import { draw } from '../../testing/draw'
import { MakeTable } from './MakeTable'

type Sent = { rows: { client: string; set?: Record<string, string> }[] }

it('plans what was pasted, problems first, and takes corrections in the plan', async () => {
  service.answers['GET /hosts'] = [{ name: 'preview', files: '', web_root: '', address: '', database: '' }]
  service.answers['GET /releases'] = [{ ref: 'music-base@3', starter: 'music-base', number: 3, kept: true, archive_bytes: 29e6 }]
  service.answers['GET /installs'] = []
  service.answers['GET /sites'] = { sites: [], total: 0, states: {} }
  service.answers['GET /starters/music-base/packing'] = { list: { list: 'a', fields: [{ key: 'measurement', label: 'Measurement id', example: 'M-1A2B3C', to: [] }] } }
  service.answers['POST /sites/table/plan'] = (t: Sent) => {
    const rows = t.rows.map((r) => {
      const wrong = r.set?.measurement === 'nonsense'
      return { site: r.client, client: r.client, address: `http://${r.client}.preview.example`, ready: !wrong, there: false, problems: wrong ? ['measurement: like M-1A2B3C'] : [] }
    })
    return { rows, ready: rows.filter((r) => r.ready).length, there: 0, wrong: rows.filter((r) => !r.ready).length }
  }
  service.answers['POST /sites/table'] = { id: 12 }
  draw(<MakeTable />)
  const user = userEvent.setup()
  expect(await screen.findByText(/Choose or paste a table/)).toBeTruthy()
  await user.click(screen.getByLabelText('Or paste it'))
  await user.paste('client\tmeasurement\nalder-valley\tM-AAAAAA\nbrook-lane\tnonsense\n')
  const rows = within(await screen.findByRole('list', { name: 'Rows' }))
  await waitFor(() => expect(rows.getAllByRole('listitem').map((r) => r.querySelector('b')?.textContent)).toEqual(['brook-lane', 'alder-valley']))
  expect(screen.getByText(/1 would be made, 0 are there, 1 would fail/)).toBeTruthy()
  const cell = rows.getByDisplayValue('nonsense')
  await user.clear(cell)
  await user.type(cell, 'M-BBBBBB')
  await user.tab()
  expect(await screen.findByText(/2 would be made, 0 are there, 0 would fail/)).toBeTruthy()
  await user.click(screen.getByRole('button', { name: 'Make 2 sites' }))
  await waitFor(() => expect(service.asked.some((a) => a.what === 'POST /sites/table')).toBe(true))
  const sent = service.asked.find((a) => a.what === 'POST /sites/table')!.body as Sent
  expect(sent.rows.map((r) => r.set?.measurement)).toEqual(['M-AAAAAA', 'M-BBBBBB'])
})
