import type { Area } from '../../router'

export default {
  routes: [{ path: '/accounts/:account/domains/:domain', component: () => import('./DomainPage.vue'), props: true }],
} satisfies Area
