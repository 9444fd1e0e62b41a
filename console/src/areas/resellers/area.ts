import type { Area } from '../../router'

export default {
  label: 'Resellers',
  ownLabel: 'Share',
  home: '/resellers',
  permission: 'resellers.read',
  key: 'r',
  routes: [
    { path: '/resellers', component: () => import('./ResellerList.vue'), meta: { title: 'Resellers' } },
    { path: '/resellers/add', component: () => import('./AddReseller.vue'), meta: { title: 'Add a reseller' } },
    { path: '/resellers/:reseller', component: () => import('./ResellerPage.vue'), props: true },
    {
      path: '/resellers/:reseller/change',
      component: () => import('./ChangeReseller.vue'),
      props: true,
      meta: { title: 'Change a reseller' },
    },
    {
      path: '/resellers/:reseller/brand',
      component: () => import('./BrandPage.vue'),
      props: true,
      meta: { title: 'Brand' },
    },
  ],
} satisfies Area
