import type { Area } from '../../router'

export default {
  label: 'People',
  home: '/people',
  permission: 'people.read',
  menu: true,
  key: 'w',
  routes: [
    { path: '/people', component: () => import('./PeopleList.vue'), meta: { title: 'People' } },
    { path: '/people/:person', component: () => import('./PersonPage.vue'), props: true },
  ],
} satisfies Area
