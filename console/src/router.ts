import { createRouter, createWebHistory, type RouteRecordRaw } from 'vue-router'
import { again } from './api/client'
import { areas } from './areas'
import type { GroupName } from './shell/groups'
import { t } from './language'

/** What an area of the work adds to the console: pages, and a place in the rail. */
export interface Area {
  /** What it is called; without a name it is not in the rail. */
  label?: string
  /** What a reseller calls it, who has only one of these. */
  ownLabel?: string
  /** The permission without which the area is not shown. */
  permission?: string
  /** The group of the rail that it is in. */
  group?: GroupName
  /** Address of the area's first page. */
  home?: string
  /** Key that opens it, after g. */
  key?: string
  routes: RouteRecordRaw[]
}

// A page's code that did not come is asked for once more, as what it shows is.
function patient(given: RouteRecordRaw): RouteRecordRaw {
  const route = given.children ? ({ ...given, children: given.children.map(patient) } as RouteRecordRaw) : given
  const load = route.component
  if (typeof load !== 'function') return route
  const fetch = load as () => Promise<unknown>
  return { ...route, component: () => fetch().catch(() => again().then(fetch)) } as RouteRecordRaw
}

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    ...areas.flatMap((area) => area.routes).map(patient),
    { path: '/:rest(.*)', component: () => import('./NotThere.vue'), meta: { title: t('Not there') } },
  ],
  scrollBehavior: (_to, _from, saved) => saved ?? { top: 0 },
})

router.afterEach((to) => {
  const title = typeof to.meta.title === 'string' ? to.meta.title : Object.values(to.params).join(' ')
  document.title = title ? `${title} · Victualler` : 'Victualler'
})
