import type { Schemas } from '../api/client'
import { t } from '../language'

/** Something that the search offers: a page, or a form in which something is done. */
export interface Hit {
  to: string
  title: string
  about: string
}

/** What the search can begin, besides going somewhere: the verbs of the client. */
export const verbs = ['open', 'add', 'suspend', 'resume', 'repair', 'close', 'plan', 'go'] as const
export type Verb = (typeof verbs)[number]

/** Reads a line: a verb, perhaps only begun, and what it is about. */
export function readLine(text: string): { verb?: Verb; about: string } {
  const [first = '', ...rest] = text.trim().split(/\s+/)
  const verb = verbs.find((v) => v === first.toLowerCase())
  return verb ? { verb, about: rest.join(' ') } : { about: text.trim() }
}

type Account = Schemas['Account']
type May = (permission: string) => boolean

const onAccounts: { verb: Verb; title: string; permission: string; fits: (a: Account) => boolean; to: string }[] = [
  {
    verb: 'suspend',
    title: t('Suspend'),
    permission: 'accounts.suspend',
    fits: (a) => a.state === 'active',
    to: '?do=suspend',
  },
  {
    verb: 'resume',
    title: t('Resume'),
    permission: 'accounts.suspend',
    fits: (a) => a.state === 'suspended',
    to: '?do=resume',
  },
  {
    verb: 'repair',
    title: t('Repair'),
    permission: 'accounts.repair',
    fits: (a) => a.state !== 'closed',
    to: '?do=repair',
  },
  {
    verb: 'plan',
    title: t('Another plan for'),
    permission: 'accounts.change',
    fits: (a) => a.state === 'active' || a.state === 'suspended',
    to: '?do=plan',
  },
  {
    verb: 'close',
    title: t('Close'),
    permission: 'accounts.close',
    fits: (a) => a.state === 'active' || a.state === 'suspended',
    to: '?do=close',
  },
]

/** What can be begun with the accounts that were found, for a verb. */
export function actionsOn(verb: Verb, accounts: Account[], may: May): Hit[] {
  const action = onAccounts.find((o) => o.verb === verb)
  if (!action || !may(action.permission)) return []
  return accounts.filter(action.fits).map((a) => ({
    to: `/accounts/${a.sign_in_name}${action.to}`,
    title: `${action.title} ${a.name}`,
    about: `${a.sign_in_name} · ${a.customer}`,
  }))
}

const forms: { verb: Verb; words: string[]; title: string; permission: string; to: string }[] = [
  { verb: 'open', words: ['account'], title: t('Open an account'), permission: 'accounts.open', to: '/accounts/open' },
  {
    verb: 'add',
    words: ['customer'],
    title: t('Add a customer'),
    permission: 'customers.change',
    to: '/customers/add',
  },
  { verb: 'add', words: ['plan'], title: t('Add a plan'), permission: 'plans.change', to: '/plans/add' },
  {
    verb: 'add',
    words: ['reseller'],
    title: t('Add a reseller'),
    permission: 'resellers.change',
    to: '/resellers/add',
  },
  {
    verb: 'add',
    words: ['template'],
    title: t('Add a template'),
    permission: 'templates.change',
    to: '/templates/add',
  },
]

const begins = (word: string, text: string) => word.toLowerCase().startsWith(text.toLowerCase())

/**
 * The forms and the areas that a line names: “add pl” is the form for a plan, “ev” the area Events. A domain
 * that is typed after “open” is taken along.
 */
export function places(text: string, areas: { label?: string; home?: string; group?: string }[], may: May): Hit[] {
  const { verb, about } = readLine(text)
  const hits: Hit[] = forms
    .filter((f) => may(f.permission))
    .filter((f) =>
      verb ? f.verb === verb && (!about || f.words.some((w) => begins(w, about))) : about && begins(f.verb, about),
    )
    .map((f) => ({ to: f.to, title: f.title, about: t('form') }))
  if (verb === 'open' && about.includes('.') && may('accounts.open'))
    hits.push({
      to: `/accounts/open?domain=${encodeURIComponent(about)}`,
      title: t('Open an account for {domain}', { domain: about }),
      about: t('form'),
    })
  if (!verb || verb === 'go')
    hits.push(
      ...areas
        .filter((a) => a.label && a.home && (about ? begins(a.label, about) : verb === 'go'))
        .map((a) => ({ to: a.home!, title: a.label!, about: t('area') })),
    )
  return hits
}
