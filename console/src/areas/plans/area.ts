import type { Area } from '../../router'

export default {
  label: 'Plans',
  home: '/plans',
  permission: 'plans.read',
  key: 'p',
  routes: [
    { path: '/plans', component: () => import('./PlanList.vue'), meta: { title: 'Plans' } },
    { path: '/plans/add', component: () => import('./AddPlan.vue'), meta: { title: 'Add a plan' } },
    { path: '/plans/compare', component: () => import('./ComparePlans.vue'), meta: { title: 'Compare plans' } },
    { path: '/plans/:plan', component: () => import('./PlanPage.vue'), props: true },
  ],
} satisfies Area
