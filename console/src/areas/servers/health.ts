import type { Schemas } from '../../api/client'

/** How a server is, in a word or two. */
export function health(s: Schemas['Server']): string {
  if (s.state === 'joining') return 'joining'
  if (!s.reachable) return 'no answer'
  const down = s.health?.programs?.find((p) => !p.running)
  if (down) return `${down.name} down`
  return s.health?.sandboxes.missing.length ? 'limits not kept' : 'good'
}
