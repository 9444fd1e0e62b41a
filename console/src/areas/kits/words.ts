import type { Schemas } from '../../api/client'
import { t } from '../../language'
import { engines } from '../accounts/databases'

/** The version of a kit that sites get, or the newest of one that none get any more. */
export function shownOf(kit: Schemas['Kit']): Schemas['KitVersion'] {
  return kit.versions.find((v) => v.version === kit.current) ?? kit.versions[0]!
}

/** What a kit cannot do without, in a few words. */
export function needsOf(needs: Schemas['KitNeeds']): string {
  const list = []
  if (needs.php) list.push(t('PHP {version}', { version: needs.php }))
  if (needs.database) list.push(engines[needs.database] ?? needs.database)
  return list.join(', ') || t('nothing')
}
