import type { Area } from '../../router'
import { t } from '../../language'

export default {
  label: t('Settings'),
  group: 'administration',
  home: '/settings',
  permission: 'settings.read',
  key: ',',
  routes: [{ path: '/settings', component: () => import('./SettingsPage.vue'), meta: { title: t('Settings') } }],
} satisfies Area
