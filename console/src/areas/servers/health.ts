import type { Schemas } from '../../api/client'
import { t } from '../../language'

/** How a server is, in a word or two. */
export function health(s: Schemas['Server']): string {
  if (s.state === 'joining') return 'joining'
  if (!s.reachable) return t('no answer')
  const down = s.health?.programs?.find((p) => !p.running)
  if (down) return t('{name} down', { name: down.name })
  return s.health?.sandboxes.missing.length ? t('limits not kept') : 'good'
}
