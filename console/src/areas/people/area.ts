import type { Area } from '../../router'
import { t } from '../../language'

export default {
  label: t('People'),
  group: 'administration',
  home: '/people',
  permission: 'people.read',
  key: 'w',
  routes: [
    { path: '/people', component: () => import('./PeopleList.vue'), meta: { title: t('People') } },
    { path: '/people/:person', component: () => import('./PersonPage.vue'), props: true },
  ],
} satisfies Area
