import type { Schemas } from '../../api/client'
import { t } from '../../language'

/** Which limits of what runs an account has met in the last day; empty for none. */
export function limitsMet(m: Schemas['LimitsMet']): string {
  const list: string[] = []
  if (m.killed) list.push(t('memory: {n} ended', { n: m.killed }))
  if (m.refused) list.push(t('processes: {n} refused', { n: m.refused }))
  if (m.waited) list.push(t('processor: waited {n} s', { n: m.waited }))
  return list.join(', ')
}
