import { describe, expect, it } from 'vitest'
import { readCSV } from './csv'

describe('comma-separated values (RFC 4180)', () => {
  it.each([
    ['a,b\r\n1,2\r\n', [['a', 'b'], ['1', '2']]],
    ['a,b\n1,2', [['a', 'b'], ['1', '2']]],
    ['\ufeffa\n1', [['a'], ['1']]],
    ['a,b\n"x, y","say ""hello"""', [['a', 'b'], ['x, y', 'say "hello"']]],
    ['a\n"two\nlines"\n', [['a'], ['two\nlines']]],
    ['a,b\n,\n\n1,', [['a', 'b'], ['', ''], ['1', '']]],
    ['a\nit is 5" long', [['a'], ['it is 5" long']]],
    ['', []],
  ])('%j', (text, rows) => expect(readCSV(text)).toEqual(rows))
  it('says when a quote is missing', () => expect(() => readCSV('a\n"open')).toThrow('a quote is missing'))
})
