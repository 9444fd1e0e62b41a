import type { Area } from '../../router'

export default {
  label: 'Certificates',
  permission: 'accounts.read',
  home: '/certificates',
  key: 't',
  routes: [
    { path: '/certificates', component: () => import('./CertificateList.vue'), meta: { title: 'Certificates' } },
    {
      path: '/accounts/:account/domains/:domain/certificate',
      component: () => import('./CertificatePage.vue'),
      props: true,
      meta: { area: '/certificates' },
    },
  ],
} satisfies Area
