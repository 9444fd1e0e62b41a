import type { Area } from '../../router'
import { t } from '../../language'

export default {
  label: t('Events'),
  group: 'record',
  home: '/events',
  permission: 'events.read',
  key: 'e',
  routes: [{ path: '/events', component: () => import('./EventList.vue'), meta: { title: t('Events') } }],
} satisfies Area
