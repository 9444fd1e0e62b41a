import type { Area } from '../../router'

export default {
  label: 'Customers',
  home: '/customers',
  permission: 'customers.change',
  key: 'c',
  routes: [
    { path: '/customers', component: () => import('./CustomerList.vue'), meta: { title: 'Customers' } },
    { path: '/customers/add', component: () => import('./CustomerForm.vue'), meta: { title: 'Add a customer' } },
    { path: '/customers/:customer', component: () => import('./CustomerPage.vue'), props: true },
    {
      path: '/customers/:customer/change',
      component: () => import('./CustomerForm.vue'),
      props: true,
      meta: { title: 'Change a customer' },
    },
  ],
} satisfies Area
