import type { Area } from '../../router'
import { t } from '../../language'

export default {
  label: t('Plans'),
  group: 'selling',
  home: '/plans',
  permission: 'plans.read',
  key: 'p',
  routes: [
    { path: '/plans', component: () => import('./PlanList.vue'), meta: { title: t('Plans') } },
    { path: '/plans/add', component: () => import('./AddPlan.vue'), meta: { title: t('Add a plan') } },
    { path: '/plans/compare', component: () => import('./ComparePlans.vue'), meta: { title: t('Compare plans') } },
    { path: '/plans/:plan', component: () => import('./PlanPage.vue'), props: true },
  ],
} satisfies Area
