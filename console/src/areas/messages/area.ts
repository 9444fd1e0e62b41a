import type { Area } from '../../router'
import { t } from '../../language'

export default {
  label: t('Messages'),
  group: 'record',
  home: '/messages',
  permission: 'messages.read',
  key: 'm',
  routes: [
    { path: '/messages', component: () => import('./MessageList.vue'), meta: { title: t('Messages') } },
    { path: '/messages/waiting', component: () => import('./QueuePage.vue'), meta: { title: t('Messages that wait') } },
    { path: '/messages/sending', component: () => import('./SendingPage.vue'), meta: { title: t('Sent to others') } },
    {
      path: '/messages/:message',
      component: () => import('./MessagePage.vue'),
      props: true,
      meta: { title: t('Message') },
    },
  ],
} satisfies Area
