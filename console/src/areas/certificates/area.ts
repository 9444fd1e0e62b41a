import type { Area } from '../../router'
import { t } from '../../language'

export default {
  label: t('Certificates'),
  group: 'hosting',
  permission: 'accounts.read',
  home: '/certificates',
  key: 't',
  routes: [
    { path: '/certificates', component: () => import('./CertificateList.vue'), meta: { title: t('Certificates') } },
    {
      path: '/accounts/:account/domains/:domain/certificate',
      component: () => import('./CertificatePage.vue'),
      props: true,
      meta: { area: '/certificates', section: 'certificates' },
    },
  ],
} satisfies Area
