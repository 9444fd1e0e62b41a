import { t } from './language'

/** What people call the words of the API for states, kinds and counts; in English they are the words themselves. */
const names: Record<string, string> = {
  // states
  active: t('active'),
  suspended: t('suspended'),
  opening: t('opening'),
  closing: t('closing'),
  closed: t('closed'),
  waiting: t('waiting'),
  running: t('running'),
  done: t('done'),
  failed: t('failed'),
  cancelled: t('cancelled'),
  sent: t('sent'),
  good: t('good'),
  up: t('up'),
  down: t('down'),
  joining: t('joining'),
  drift: t('drift'),
  valid: t('valid'),
  uploaded: t('uploaded'),
  ordered: t('ordered'),
  'self-signed': t('self-signed'),
  failing: t('failing'),
  expired: t('expired'),
  retired: t('retired'),
  revoked: t('revoked'),
  installing: t('installing'),
  'in use': t('in use'),
  // what became of messages
  delivered: t('delivered'),
  forwarded: t('passed on'),
  kept: t('not passed on'),
  refused: t('refused'),
  // how a domain is served, and where its DNS is hosted
  site: t('site'),
  mirror: t('mirror'),
  redirect: t('redirect'),
  'dns-only': t('DNS only'),
  here: t('here'),
  elsewhere: t('elsewhere'),
  // who signs in
  operator: t('operator'),
  reseller: t('reseller'),
  customer: t('customer'),
  // what events are of
  account: t('account'),
  brand: t('brand'),
  domain: t('domain'),
  exception: t('exception'),
  handover: t('handover sheet'),
  person: t('person'),
  plan: t('plan'),
  server: t('server'),
  session: t('session'),
  settings: t('settings'),
  token: t('token'),
  // parts of an account on a server
  user: t('system user'),
  home: t('home'),
  sandbox: t('sandbox'),
  certificates: t('certificates'),
  zones: t('zones'),
  // how strong a password is
  weak: t('weak'),
  fair: t('fair'),
  strong: t('strong'),
  // limits and features, as they are named in records and counts
  disk: t('disk'),
  files: t('files'),
  traffic: t('traffic'),
  domains: t('domains'),
  subdomains: t('subdomains'),
  mirrors: t('mirrors'),
  mailboxes: t('mailboxes'),
  databases: t('databases'),
  logins: t('logins'),
  memory: t('memory'),
  processes: t('processes'),
  cpu: t('processor'),
  // the preferred form of a site's names
  both: t('both'),
  bare: t('without www'),
  www: t('with www'),
  // shares
  allotted: t('allotted'),
  used: t('used'),
}

/** Says a word of the API in the language of the console; what has no name there is said as it is. */
export const named = (code: string): string => names[code] ?? code
