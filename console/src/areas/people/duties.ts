/** What the duties of operators are for. */
export const duties = {
  all: 'everything',
  support: 'customers and their accounts; neither plans nor servers',
  billing: 'opening, suspending, closing and changing the plan of accounts, as orders ask for it',
  'read-only': 'looking at everything, changing nothing',
} as const
