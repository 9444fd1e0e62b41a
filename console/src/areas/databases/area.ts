import type { Area } from '../../router'
import { t } from '../../language'

export default {
  label: t('Databases'),
  group: 'hosting',
  permission: 'accounts.read',
  home: '/databases',
  routes: [{ path: '/databases', component: () => import('./DatabaseList.vue'), meta: { title: t('Databases') } }],
} satisfies Area
