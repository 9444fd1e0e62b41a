import type { Area } from '../../router'
import { t } from '../../language'

export default {
  label: t('Servers'),
  group: 'infrastructure',
  permission: 'servers.read',
  home: '/servers',
  key: 's',
  routes: [
    { path: '/servers', component: () => import('./ServerList.vue'), meta: { title: t('Servers') } },
    { path: '/servers/:server', component: () => import('./ServerPage.vue'), props: true },
  ],
} satisfies Area
