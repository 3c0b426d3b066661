/** Things by what they have in common, in the order in which that first comes. Browsers before 2024 have no Map.groupBy. */
export function grouped<T>(all: T[], by: (one: T) => string): [string, T[]][] {
  const out = new Map<string, T[]>()
  for (const one of all) {
    const key = by(one)
    const group = out.get(key)
    if (group) group.push(one)
    else out.set(key, [one])
  }
  return [...out]
}
