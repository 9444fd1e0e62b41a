import type { Area } from '../../router'
import { t } from '../../language'

export default {
  label: t('Templates'),
  group: 'selling',
  home: '/templates',
  permission: 'templates.read',
  routes: [
    { path: '/templates', component: () => import('./TemplateList.vue'), meta: { title: t('Templates') } },
    { path: '/templates/add', component: () => import('./TemplatePage.vue'), meta: { title: t('Add a template') } },
    { path: '/templates/:template', component: () => import('./TemplatePage.vue'), props: true },
  ],
} satisfies Area
