import type { Area } from '../../router'

export default {
  label: 'Operations',
  permission: 'operations.read',
  home: '/operations',
  key: 'o',
  routes: [
    { path: '/operations', component: () => import('./OperationList.vue'), meta: { title: 'Operations' } },
    {
      path: '/operations/:operation',
      component: () => import('./OperationPage.vue'),
      props: true,
      meta: { title: 'Operation' },
    },
  ],
} satisfies Area
