import { expect, it } from 'vitest'
import { fieldLine, keyFor, placeText, withField } from './fields'

const phone = { key: 'phone', label: 'Telephone', type: 'text', required: false, place: { option: 'loom_school', path: ['contact', 'phone'] } }
const line = '{key: "phone", label: "Telephone", to: [{option: "loom_school", path: ["contact", "phone"]}]}'

it('writes a field as a line', () => {
  expect(fieldLine(phone)).toBe(line)
  expect(fieldLine({ key: 'logo', label: 'It is "ours"', type: 'image', required: true, place: { setting: '$logo' } })).toBe('{key: "logo", label: "It is \\"ours\\"", type: image, required: true, to: [{setting: "$logo"}]}')
  expect(placeText(phone.place)).toBe('loom_school › contact › phone')
  expect(keyFor({ option: 'blog name!' })).toBe('blog_name')
})

it('adds a field behind those that are there, and leaves every other line as it is', () => {
  expect(withField('list: starter\n', phone)).toBe(`list: starter\nfields:\n  - ${line}\n`)
  expect(withField('list: starter\nfields: []\nempty: [a]\n', phone)).toBe(`list: starter\nfields:\n  - ${line}\nempty: [a]\n`)
  const text = 'list: starter\nfields: # what clients say\n    # first\n    - key: title\n      to: [{option: blogname}]\n\n# rows\nempty:\n  - users\n'
  expect(withField(text, phone)).toBe(text.replace('[{option: blogname}]\n', `[{option: blogname}]\n    - ${line}\n`))
  expect(withField('fields:\n- {key: a, to: []}\nempty: []\n', phone)).toBe(`fields:\n- {key: a, to: []}\n- ${line}\nempty: []\n`)
})
