import type { Area } from '../../router'

export default {
  routes: [
    { path: '/link', component: () => import('./LinkPage.vue'), meta: { title: 'Sign in by link', open: true } },
  ],
} satisfies Area
