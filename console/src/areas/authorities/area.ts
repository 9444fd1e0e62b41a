import type { Area } from '../../router'

export default {
  label: 'Authorities',
  permission: 'authorities.read',
  home: '/authorities',
  menu: true,
  key: 'h',
  routes: [{ path: '/authorities', component: () => import('./AuthorityList.vue'), meta: { title: 'Authorities' } }],
} satisfies Area
