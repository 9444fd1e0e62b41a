import type { Area } from '../../router'

export default {
  label: 'Settings',
  home: '/settings',
  permission: 'settings.read',
  menu: true,
  key: ',',
  routes: [{ path: '/settings', component: () => import('./SettingsPage.vue'), meta: { title: 'Settings' } }],
} satisfies Area
