import type { Schemas } from '../../api/client'

type Allowed = Schemas['Allowed']

/** How much of a limit is used, 0 to 1 and above; nothing where it is not counted or has no bound. */
export function share(l: Allowed): number | undefined {
  if (l.used === null || l.value === null) return undefined
  if (l.value === 0) return l.used > 0 ? Infinity : undefined
  return l.used / l.value
}

/** The limits of which most is used, the fullest first; those of which nothing is used are left out. */
export function fullest(allowance: Allowed[], most: number): Allowed[] {
  return allowance
    .filter((l) => share(l))
    .sort((a, b) => share(b)! - share(a)!)
    .slice(0, most)
}
