import type { Area } from '../../router'
import { t } from '../../language'

export default {
  routes: [
    { path: '/link', component: () => import('./LinkPage.vue'), meta: { title: t('Sign in by link'), open: true } },
    {
      path: '/leave/:list/:code',
      component: () => import('./LeaveList.vue'),
      props: true,
      meta: { title: t('Leave a list'), open: true },
    },
  ],
} satisfies Area
