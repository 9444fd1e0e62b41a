import type { Area } from '../../router'

export default {
  label: 'Servers',
  permission: 'servers.read',
  home: '/servers',
  key: 's',
  routes: [
    { path: '/servers', component: () => import('./ServerList.vue'), meta: { title: 'Servers' } },
    { path: '/servers/:server', component: () => import('./ServerPage.vue'), props: true },
  ],
} satisfies Area
