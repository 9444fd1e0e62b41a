import type { Area } from '../../router'
import { t } from '../../language'

export default {
  routes: [
    { path: '/mailbox', component: () => import('./OwnMailbox.vue'), meta: { title: t('Your mailbox'), open: true } },
  ],
} satisfies Area
