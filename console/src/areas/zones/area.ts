import type { Area } from '../../router'

export default {
  label: 'Zones',
  permission: 'accounts.read',
  home: '/zones',
  key: 'z',
  routes: [
    { path: '/zones', component: () => import('./ZoneList.vue'), meta: { title: 'Zones' } },
    { path: '/zones/:zone', component: () => import('./ZonePage.vue'), props: true },
  ],
} satisfies Area
