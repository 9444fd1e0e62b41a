import type { Area } from '../../router'
import { t } from '../../language'

export default {
  label: t('Domains'),
  group: 'hosting',
  permission: 'accounts.read',
  home: '/domains',
  key: 'd',
  routes: [
    { path: '/domains', component: () => import('./DomainList.vue'), meta: { title: t('Domains') } },
    {
      path: '/accounts/:account/domains/:domain',
      component: () => import('./DomainPage.vue'),
      props: true,
      meta: { section: 'websites' },
    },
  ],
} satisfies Area
