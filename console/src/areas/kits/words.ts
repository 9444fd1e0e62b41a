import type { Schemas } from '../../api/client'
import { t } from '../../language'
import { engines } from '../accounts/databases'

/** What a kit cannot do without, in a few words. */
export function needsOf(needs: Schemas['KitNeeds']): string {
  const list = []
  if (needs.php) list.push(t('PHP {version}', { version: needs.php }))
  if (needs.database) list.push(engines[needs.database] ?? needs.database)
  return list.join(', ') || t('nothing')
}
