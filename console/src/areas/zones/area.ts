import type { Area } from '../../router'
import { t } from '../../language'

export default {
  label: t('Zones'),
  group: 'hosting',
  permission: 'accounts.read',
  home: '/zones',
  key: 'z',
  routes: [
    { path: '/zones', component: () => import('./ZoneList.vue'), meta: { title: t('Zones') } },
    { path: '/zones/:zone', component: () => import('./ZonePage.vue'), props: true },
  ],
} satisfies Area
