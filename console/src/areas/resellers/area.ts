import type { Area } from '../../router'
import { t } from '../../language'

export default {
  label: t('Resellers'),
  group: 'selling',
  ownLabel: t('Share'),
  home: '/resellers',
  permission: 'resellers.read',
  key: 'r',
  routes: [
    { path: '/resellers', component: () => import('./ResellerList.vue'), meta: { title: t('Resellers') } },
    { path: '/resellers/add', component: () => import('./AddReseller.vue'), meta: { title: t('Add a reseller') } },
    { path: '/resellers/:reseller', component: () => import('./ResellerPage.vue'), props: true },
    {
      path: '/resellers/:reseller/change',
      component: () => import('./ChangeReseller.vue'),
      props: true,
      meta: { title: t('Change a reseller') },
    },
    {
      path: '/resellers/:reseller/brand',
      component: () => import('./BrandPage.vue'),
      props: true,
      meta: { title: t('Brand') },
    },
  ],
} satisfies Area
