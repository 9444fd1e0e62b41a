import type { Area } from '../../router'
import { t } from '../../language'

export default {
  label: t('Authorities'),
  group: 'infrastructure',
  permission: 'authorities.read',
  home: '/authorities',
  key: 'u',
  routes: [{ path: '/authorities', component: () => import('./AuthorityList.vue'), meta: { title: t('Authorities') } }],
} satisfies Area
