import type { Schemas } from '../../api/client'

export const pers = { account: 'in all', domain: 'per registered domain', names: 'for the same names' } as const

/** Bounds in words, such as “5 orders for the same names within 168 hours”. */
export const boundWords = (list: Schemas['Bound'][]) => list.map((b) => `${b.most.toLocaleString('en')} ${b.most === 1 ? 'order' : 'orders'} ${pers[b.per as keyof typeof pers]} within ${b.hours} ${b.hours === 1 ? 'hour' : 'hours'}`).join('; ') || 'as many as it takes'
