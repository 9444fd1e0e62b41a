import type { Area } from '../../router'
import { t } from '../../language'

export default {
  home: '/',
  key: 'h',
  label: t('Overview'),
  routes: [{ path: '/', component: () => import('./OverviewPage.vue'), meta: { title: t('Overview') } }],
} satisfies Area
