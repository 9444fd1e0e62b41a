import type { Area } from '../../router'

export default {
  label: 'Accounts',
  permission: 'accounts.read',
  home: '/accounts',
  key: 'a',
  routes: [
    { path: '/accounts', component: () => import('./AccountList.vue'), meta: { title: 'Accounts' } },
    { path: '/accounts/open', component: () => import('./OpenAccount.vue'), meta: { title: 'Open an account' } },
    {
      path: '/accounts/:account/handover',
      component: () => import('./HandoverPage.vue'),
      props: true,
      meta: { title: 'Handover sheet' },
    },
    { path: '/accounts/:account', component: () => import('./AccountPage.vue'), props: true },
  ],
} satisfies Area
