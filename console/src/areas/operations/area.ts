import type { Area } from '../../router'
import { t } from '../../language'

export default {
  label: t('Operations'),
  group: 'record',
  permission: 'operations.read',
  home: '/operations',
  key: 'o',
  routes: [
    { path: '/operations', component: () => import('./OperationList.vue'), meta: { title: t('Operations') } },
    {
      path: '/operations/:operation',
      component: () => import('./OperationPage.vue'),
      props: true,
      meta: { title: t('Operation') },
    },
  ],
} satisfies Area
