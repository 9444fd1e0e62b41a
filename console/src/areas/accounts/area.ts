import type { Area } from '../../router'
import { t } from '../../language'

export default {
  label: t('Accounts'),
  group: 'hosting',
  permission: 'accounts.read',
  home: '/accounts',
  key: 'a',
  routes: [
    { path: '/accounts', component: () => import('./AccountList.vue'), meta: { title: t('Accounts') } },
    { path: '/accounts/open', component: () => import('./OpenAccount.vue'), meta: { title: t('Open an account') } },
    {
      path: '/accounts/:account/handover',
      component: () => import('./HandoverPage.vue'),
      props: true,
      meta: { title: t('Handover sheet') },
    },
    {
      path: '/accounts/:account',
      component: () => import('./AccountFrame.vue'),
      props: true,
      children: [
        { path: '', component: () => import('./AccountOverview.vue'), meta: { section: '' } },
        { path: 'websites', component: () => import('./AccountWebsites.vue'), meta: { section: 'websites' } },
        { path: 'domains', component: () => import('./AccountDomains.vue'), meta: { section: 'domains' } },
        {
          path: 'certificates',
          component: () => import('./AccountCertificates.vue'),
          meta: { section: 'certificates' },
        },
        { path: 'mail', component: () => import('./AccountMail.vue'), meta: { section: 'mail' } },
        {
          path: 'databases',
          component: () => import('./AccountDatabases.vue'),
          meta: { section: 'databases' },
        },
        {
          path: 'databases/:database',
          component: () => import('./DatabaseContents.vue'),
          props: true,
          meta: { section: 'databases' },
        },
        { path: 'kits', component: () => import('./AccountKits.vue'), meta: { section: 'kits' } },
        { path: 'logins', component: () => import('./AccountLogins.vue'), meta: { section: 'logins' } },
        { path: 'usage', component: () => import('./AccountUsage.vue'), meta: { section: 'usage' } },
        { path: 'history', component: () => import('./AccountHistory.vue'), meta: { section: 'history' } },
      ],
    },
  ],
} satisfies Area
