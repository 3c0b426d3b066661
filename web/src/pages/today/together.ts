import type { Schemas } from '../../api/client'

type Group = Schemas['TodayGroup']

/** Sites of which just the same is said are shown as one: the first, and the others with it. */
export function together(groups: Group[]): { first: Group; others: Group[] }[] {
  const out: { first: Group; others: Group[] }[] = []
  for (const g of groups) {
    const same = g.noun === 'site' ? out.find(({ first }) => first.noun === 'site' && said(first) === said(g)) : undefined
    if (same) same.others.push(g)
    else out.push({ first: g, others: [] })
  }
  return out
}

const said = (g: Group) => JSON.stringify(g.items.map((i) => [i.sentence, i.act, i.what]))
