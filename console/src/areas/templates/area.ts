import type { Area } from '../../router'

export default {
  label: 'Templates',
  home: '/templates',
  permission: 'templates.read',
  menu: true,
  routes: [
    { path: '/templates', component: () => import('./TemplateList.vue'), meta: { title: 'Templates' } },
    { path: '/templates/add', component: () => import('./TemplatePage.vue'), meta: { title: 'Add a template' } },
    { path: '/templates/:template', component: () => import('./TemplatePage.vue'), props: true },
  ],
} satisfies Area
