import type { Schemas } from '../../api/client'
import { t } from '../../language'

export const pers = {
  account: t('in all'),
  domain: t('per registered domain'),
  names: t('for the same names'),
} as const

/** Bounds in words, such as “5 orders for the same names within 168 hours”. */
export const boundWords = (list: Schemas['Bound'][]) =>
  list
    .map((b) =>
      t('{orders} {pers} within {hours}', {
        orders: t('{n} order | {n} orders', { n: b.most }),
        pers: pers[b.per as keyof typeof pers],
        hours: t('{n} hour | {n} hours', { n: b.hours }),
      }),
    )
    .join('; ') || t('as many as it takes')
