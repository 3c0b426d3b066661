// @vitest-environment happy-dom
import { screen, waitFor } from '@testing-library/react'
import userEvent from '@testing-library/user-event'
import { expect, it, vi } from 'vitest'
import { Problem } from '../api/client'
import { Ask, Question, text } from './Dialog'
import { TextField, Tick } from './Field'
import { draw } from '../testing/draw'

const question = (onSubmit: (f: FormData) => Promise<unknown>, onLeave?: () => void) => (
  <Ask button="Add" title="Add a client" action="Add it" onSubmit={onSubmit} onLeave={onLeave}>
    <TextField label="Name" name="name" />
    <TextField label="Password" name="password" type="password" />
    <Tick name="held">Held</Tick>
  </Ask>
)

it('closes when what it asks for is done, and keeps nothing', async () => {
  const sent = vi.fn((f: FormData) => Promise.resolve(text(f, 'name')))
  draw(question(sent))
  const user = userEvent.setup()
  await user.click(screen.getByRole('button', { name: 'Add' }))
  await user.type(screen.getByLabelText('Name'), ' alder ')
  await user.click(screen.getByRole('button', { name: 'Add it' }))
  await waitFor(() => expect(screen.queryByRole('dialog')).toBeNull())
  expect(await sent.mock.results[0]!.value).toBe('alder')
  await user.click(screen.getByRole('button', { name: 'Add' }))
  expect(screen.getByLabelText<HTMLInputElement>('Name').value).toBe('')
})

it('takes what the browser has filled in by itself', async () => {
  const sent = vi.fn((f: FormData) => Promise.resolve([text(f, 'name'), text(f, 'password')]))
  draw(
    <Ask button="Add" title="Add somebody" action="Add it" onSubmit={sent}>
      <TextField label="Name" name="name" required />
      <TextField label="Password" name="password" type="password" required />
    </Ask>,
  )
  const user = userEvent.setup()
  await user.click(screen.getByRole('button', { name: 'Add' }))
  screen.getByLabelText<HTMLInputElement>('Name').value = 'ada'
  screen.getByLabelText<HTMLInputElement>('Password').value = 'filled in'
  await user.click(screen.getByRole('button', { name: 'Add it' }))
  await waitFor(() => expect(screen.queryByRole('dialog')).toBeNull())
  expect(await sent.mock.results[0]!.value).toEqual(['ada', 'filled in'])
})

it('has what was typed when it is opened again, but no secret', async () => {
  const leave = vi.fn()
  draw(question(() => Promise.resolve(), leave))
  const user = userEvent.setup()
  await user.click(screen.getByRole('button', { name: 'Add' }))
  await user.type(screen.getByLabelText('Name'), 'half')
  await user.type(screen.getByLabelText('Password'), 'not to be kept')
  await user.click(screen.getByLabelText('Held'))
  await user.keyboard('{Escape}')
  expect(screen.queryByRole('dialog')).toBeNull()
  expect(leave).toHaveBeenCalledOnce()
  expect(JSON.stringify({ ...sessionStorage })).not.toContain('not to be kept')
  await user.click(screen.getByRole('button', { name: 'Add' }))
  expect(screen.getByLabelText<HTMLInputElement>('Name').value).toBe('half')
  expect(screen.getByLabelText<HTMLInputElement>('Password').value).toBe('')
  expect(screen.getByLabelText<HTMLInputElement>('Held').checked).toBe(true)
  await user.click(screen.getByRole('button', { name: 'Start over' }))
  expect(screen.getByLabelText<HTMLInputElement>('Name').value).toBe('')
})

it('says what is wrong at the field that it is wrong with', async () => {
  draw(question(() => Promise.reject(new Problem(422, 'Some of it is wrong.', { name: 'Is taken' }))))
  const user = userEvent.setup()
  await user.click(screen.getByRole('button', { name: 'Add' }))
  await user.click(screen.getByRole('button', { name: 'Add it' }))
  expect(await screen.findByText('Is taken')).toBeTruthy()
  expect(screen.getByLabelText('Name').getAttribute('aria-invalid')).toBe('true')
  expect(screen.getByRole('alert').textContent).toBe('Some of it is wrong.')
})

it('is left while something is sent, and what comes of it does not show', async () => {
  let fail = (_: Error) => {}
  draw(question(() => new Promise((_, failed) => { fail = failed })))
  const user = userEvent.setup()
  await user.click(screen.getByRole('button', { name: 'Add' }))
  await user.click(screen.getByRole('button', { name: 'Add it' }))
  await user.click(screen.getByRole('button', { name: 'Cancel' }))
  await user.click(screen.getByRole('button', { name: 'Add' }))
  fail(new Error('too late'))
  await Promise.resolve()
  expect(screen.queryByRole('alert')).toBeNull()
  expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Add it' }).disabled).toBe(false)
})

it('asks without a form, and says why it was not done', async () => {
  const leave = vi.fn()
  draw(<Question open danger onLeave={leave} title="Retire alder" about="A last copy is made." action="Retire it" onSubmit={() => Promise.reject(new Error('It is busy.'))} />)
  const user = userEvent.setup()
  await user.click(screen.getByRole('button', { name: 'Retire it' }))
  expect((await screen.findByRole('alert')).textContent).toBe('It is busy.')
  expect(leave).not.toHaveBeenCalled()
  await user.click(screen.getByRole('button', { name: 'Cancel' }))
  expect(leave).toHaveBeenCalledOnce()
})

it('holds its fields to the limits of what is sent, and helps beside them', async () => {
  const onSubmit = vi.fn(async () => {})
  draw(<Ask asks="NewHost" button="Add" title="Add a host" action="Add it" onSubmit={onSubmit}><TextField label="Name" name="name" hint="small letters, digits, dashes" /></Ask>)
  const user = userEvent.setup()
  await user.click(screen.getByRole('button', { name: 'Add' }))
  await user.click(screen.getByRole('button', { name: 'Add it' }))
  expect(await screen.findByText('It is missing.')).toBeTruthy()
  const name = screen.getByLabelText<HTMLInputElement>('Name')
  expect([document.activeElement === name, name.getAttribute('aria-invalid')]).toEqual([true, 'true'])
  await user.type(name, 'Preview Host')
  expect(await screen.findByText('Not in the form that is asked for: small letters, digits, dashes.')).toBeTruthy()
  await user.clear(name)
  await user.type(name, 'a'.repeat(61))
  expect(await screen.findByText('At most 60 characters.')).toBeTruthy()
  expect(onSubmit).not.toHaveBeenCalled()
  await user.clear(name)
  await user.type(name, 'preview')
  await user.click(screen.getByRole('button', { name: 'What is Name?' }))
  expect(await screen.findByText('The guide: “1. A host”')).toBeTruthy()
  await user.keyboard('{Escape}')
  await user.click(screen.getByRole('button', { name: 'Add it' }))
  await waitFor(() => expect(onSubmit).toHaveBeenCalledTimes(1))
})
