import { t } from '../../language'

/** The sections of an account, in the order in which they are listed. Each is a page with its own address. */
const sections = [
  { path: '', label: t('Overview') },
  { path: 'websites', label: t('Websites') },
  { path: 'kits', label: t('Kits') },
  { path: 'domains', label: t('Domains and DNS') },
  { path: 'certificates', label: t('Certificates') },
  { path: 'mail', label: t('Mail') },
  { path: 'databases', label: t('Databases') },
  { path: 'logins', label: t('Files and logins') },
  { path: 'usage', label: t('Usage and limits') },
  { path: 'history', label: t('History') },
] as const

export type Section = (typeof sections)[number]['path']

/** The sections of one account with their addresses. */
export function sectionsFor(account: string) {
  return sections.map((s) => ({ ...s, to: s.path ? `/accounts/${account}/${s.path}` : `/accounts/${account}` }))
}
