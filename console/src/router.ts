import { createRouter, createWebHistory, type RouteRecordRaw } from 'vue-router'
import { again } from './api/client'
import { areas } from './areas'

/** What an area of the work adds to the console: pages, and a place in the bar. */
export interface Area {
  /** Label in the bar or the menu; without one the area is in neither. */
  label?: string
  /** What a reseller calls it, who has only one of these. */
  ownLabel?: string
  /** The permission without which the area is not shown. */
  permission?: string
  /** In the menu behind one's name instead of the bar. */
  menu?: boolean
  /** Address of the area's first page. */
  home?: string
  /** Key that opens it, after g. */
  key?: string
  routes: RouteRecordRaw[]
}

// A page's code that did not come is asked for once more, as what it shows is.
function patient(route: RouteRecordRaw): RouteRecordRaw {
  const load = route.component
  if (typeof load !== 'function') return route
  const fetch = load as () => Promise<unknown>
  return { ...route, component: () => fetch().catch(() => again().then(fetch)) } as RouteRecordRaw
}

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', redirect: '/accounts' },
    ...areas.flatMap((area) => area.routes).map(patient),
    { path: '/:rest(.*)', component: () => import('./NotThere.vue'), meta: { title: 'Not there' } },
  ],
  scrollBehavior: (_to, _from, saved) => saved ?? { top: 0 },
})

router.afterEach((to) => {
  const title = typeof to.meta.title === 'string' ? to.meta.title : Object.values(to.params).join(' ')
  document.title = title ? `${title} · Victualler` : 'Victualler'
})
