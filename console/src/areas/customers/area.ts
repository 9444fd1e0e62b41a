import type { Area } from '../../router'
import { t } from '../../language'

export default {
  label: t('Customers'),
  group: 'selling',
  home: '/customers',
  permission: 'customers.change',
  key: 'c',
  routes: [
    { path: '/customers', component: () => import('./CustomerList.vue'), meta: { title: t('Customers') } },
    { path: '/customers/add', component: () => import('./CustomerForm.vue'), meta: { title: t('Add a customer') } },
    { path: '/customers/:customer', component: () => import('./CustomerPage.vue'), props: true },
    {
      path: '/customers/:customer/change',
      component: () => import('./CustomerForm.vue'),
      props: true,
      meta: { title: t('Change a customer') },
    },
  ],
} satisfies Area
