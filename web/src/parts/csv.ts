/** Reads comma-separated values (RFC 4180): quoted fields, doubled quotes, line ends of either kind. */
export function readCSV(text: string): string[][] {
  const rows: string[][] = []
  let row: string[] = []
  let cell = ''
  let quoted = false
  const endRow = () => {
    row.push(cell)
    if (row.length > 1 || row[0] !== '') rows.push(row)
    row = []
    cell = ''
  }
  const s = text.replace(/^\ufeff/, '')
  for (let i = 0; i < s.length; i++) {
    const c = s[i]!
    if (quoted) {
      if (c !== '"') cell += c
      else if (s[i + 1] === '"') { cell += '"'; i++ } else quoted = false
    } else if (c === '"' && cell === '') quoted = true
    else if (c === ',') { row.push(cell); cell = '' } else if (c === '\n') endRow()
    else if (c !== '\r') cell += c
  }
  if (quoted) throw new Error('The table ends inside a quoted field; a quote is missing.')
  if (cell !== '' || row.length > 0) endRow()
  return rows
}
