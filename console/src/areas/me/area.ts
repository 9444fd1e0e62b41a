import type { Area } from '../../router'

export default {
  label: 'Your sign-in',
  home: '/me',
  permission: 'personal',
  menu: true,
  key: 'y',
  routes: [{ path: '/me', component: () => import('./OwnPage.vue'), meta: { title: 'Your sign-in' } }],
} satisfies Area
