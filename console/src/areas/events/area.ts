import type { Area } from '../../router'

export default {
  label: 'Events',
  home: '/events',
  permission: 'events.read',
  key: 'e',
  routes: [{ path: '/events', component: () => import('./EventList.vue'), meta: { title: 'Events' } }],
} satisfies Area
