import type { Area } from '../../router'
import { t } from '../../language'

export default {
  home: '/me',
  permission: 'personal',
  key: 'y',
  routes: [{ path: '/me', component: () => import('./OwnPage.vue'), meta: { title: t('Your sign-in') } }],
} satisfies Area
