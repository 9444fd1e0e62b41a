import { t } from '../../language'

/** What the duties of operators are for. */
export const duties = {
  all: 'everything',
  support: t('customers and their accounts; neither plans nor servers'),
  billing: t('opening, suspending, closing and changing the plan of accounts, as orders ask for it'),
  'read-only': t('looking at everything, changing nothing'),
} as const
