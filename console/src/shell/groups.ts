import { t } from '../language'

/** Groups of the rail, in its order; docs/console.md says why. */
export const groups = [
  { name: 'hosting', label: t('Hosting') },
  { name: 'selling', label: t('Selling') },
  { name: 'infrastructure', label: t('Infrastructure') },
  { name: 'record', label: t('Record') },
  { name: 'administration', label: t('Administration') },
] as const

export type GroupName = (typeof groups)[number]['name']
