import type { Schemas } from '../../api/client'
import { counted } from '../../words'

export const pers = { account: 'in all', domain: 'per registered domain', names: 'for the same names' } as const

/** Bounds in words, such as “5 orders for the same names within 168 hours”. */
export const boundWords = (list: Schemas['Bound'][]) =>
  list
    .map((b) => `${counted(b.most, 'order')} ${pers[b.per as keyof typeof pers]} within ${counted(b.hours, 'hour')}`)
    .join('; ') || 'as many as it takes'
