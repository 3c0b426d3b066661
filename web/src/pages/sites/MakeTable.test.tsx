// @vitest-environment happy-dom
import { refused, service } from '../../testing/service'
import { cleanup, screen, waitFor, within } from '@testing-library/react'
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
  let rows = within(await screen.findByRole('list', { name: 'Rows' }))
  await waitFor(() => expect(rows.getAllByRole('listitem').map((r) => r.querySelector('b')?.textContent)).toEqual(['brook-lane', 'alder-valley']))
  expect(screen.getByText(/1 would be made, 0 are there, 1 would fail/)).toBeTruthy()
  cleanup() // the page is left, and come back to
  draw(<MakeTable />)
  expect(await screen.findByText(/is here again/)).toBeTruthy()
  rows = within(await screen.findByRole('list', { name: 'Rows' }))
  const cell = await rows.findByDisplayValue('nonsense')
  await user.clear(cell)
  await user.type(cell, 'M-BBBBBB')
  await user.tab()
  expect(await screen.findByText(/2 would be made, 0 are there, 0 would fail/)).toBeTruthy()
  await user.click(screen.getByRole('button', { name: 'Make 2 sites' }))
  await waitFor(() => expect(service.asked.some((a) => a.what === 'POST /sites/table')).toBe(true))
  const sent = service.asked.find((a) => a.what === 'POST /sites/table')!.body as Sent
  expect(sent.rows.map((r) => r.set?.measurement)).toEqual(['M-AAAAAA', 'M-BBBBBB'])
  cleanup()
  draw(<MakeTable />)
  expect(await screen.findByText(/Choose or paste a table/)).toBeTruthy()
})

it('gives clients the pictures that cells name, and those that are chosen for a row', async () => {
  type Named = { rows: { client: string; set?: Record<string, string> }[] }
  service.answers['GET /hosts'] = [{ name: 'preview', files: '', web_root: '', address: '', database: '' }]
  service.answers['GET /releases'] = [{ ref: 'music-base@3', starter: 'music-base', number: 3, kept: true, archive_bytes: 29e6 }]
  service.answers['GET /installs'] = []
  service.answers['GET /sites'] = { sites: [], total: 0, states: {} }
  service.answers['GET /starters/music-base/packing'] = { list: { list: 'a', fields: [{ key: 'logo', label: 'Logo', type: 'image', required: true, to: [] }] } }
  service.answers['POST /sites/table/plan'] = (t: Named) => {
    const rows = t.rows.map((r) => {
      const fits = /^file:[0-9a-f]{64}\/[A-Za-z0-9._-]+$/.test(r.set?.logo ?? '')
      return { site: r.client, client: r.client, address: `http://${r.client}.preview.example`, ready: fits, there: false, problems: fits ? [] : ['logo: is neither a file of the client nor a link to one'] }
    })
    return { rows, ready: rows.filter((r) => r.ready).length, there: 0, wrong: rows.filter((r) => !r.ready).length }
  }
  const there = new Set(['alder-valley'])
  const gets = (client: string) => (f: unknown) => {
    const { name, content } = f as { name: string; content: string }
    return there.has(client) ? { value: `file:${content.length}/${name}`, name, type: 'image/png', bytes: 1 } : refused(404, `there is no client ${client}`)
  }
  service.answers['POST /clients/alder-valley/files'] = gets('alder-valley')
  service.answers['POST /clients/brook-lane/files'] = gets('brook-lane')
  service.answers['POST /clients'] = (c: unknown) => { there.add((c as { name: string }).name); return { name: 'brook-lane', settings: {} } }
  service.answers['POST /sites/table'] = { id: 12 }
  draw(<MakeTable />)
  const user = userEvent.setup()
  await user.click(await screen.findByLabelText('Or paste it'))
  await user.paste('client\tlogo\nalder-valley\tOur Logo.png\nbrook-lane\t\n')
  expect(await screen.findByText(/0 would be made/)).toBeTruthy()
  await user.upload(screen.getByLabelText('Pictures and files that cells name'), [new File(['one'], 'Our Logo.png', { type: 'image/png' })])
  expect(await screen.findByText(/1 would be made/)).toBeTruthy()
  const row = within((await screen.findByText('brook-lane', { selector: 'b' })).closest('li')!)
  await user.upload(row.getByLabelText('logo'), new File(['another'], 'brook.png', { type: 'image/png' }))
  expect(await screen.findByText(/2 would be made/)).toBeTruthy()
  const closing = new Event('beforeunload', { cancelable: true })
  window.dispatchEvent(closing)
  expect(closing.defaultPrevented).toBe(true)
  cleanup() // the page is left, and come back to: the files are still chosen
  draw(<MakeTable />)
  expect(await screen.findByText('The table that you gave before is here again.')).toBeTruthy()
  expect(await screen.findByText('1 file')).toBeTruthy()
  expect(await screen.findByText(/2 would be made/)).toBeTruthy()
  await user.click(screen.getByRole('button', { name: 'Make 2 sites' }))
  await waitFor(() => expect(service.asked.some((a) => a.what === 'POST /sites/table')).toBe(true))
  const sent = service.asked.find((a) => a.what === 'POST /sites/table')!.body as Named
  expect(sent.rows.map((r) => r.set?.logo)).toEqual(['file:4/Our Logo.png', 'file:12/brook.png'])
})
