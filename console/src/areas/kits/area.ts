import type { Area } from '../../router'
import { t } from '../../language'

export default {
  label: t('Kits'),
  group: 'selling',
  home: '/kits',
  permission: 'kits.read',
  routes: [
    { path: '/kits', component: () => import('./KitList.vue'), meta: { title: t('Kits') } },
    { path: '/kits/:kit', component: () => import('./KitPage.vue'), props: true, meta: { area: '/kits' } },
  ],
} satisfies Area
