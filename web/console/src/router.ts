import { createRouter, createWebHistory } from 'vue-router'

declare module 'vue-router' {
  interface RouteMeta {
    title: string
  }
}

const dataPage = () => import('./data/DataPage.vue')

/** The pages. What a page shows is in its address, so that a reload, a link and the way back show the same. */
export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', name: 'map', component: () => import('./map/MapPage.vue'), meta: { title: 'Map' } },
    { path: '/data', name: 'data', component: dataPage, meta: { title: 'Data' } },
    {
      path: '/data/:collection/:part(items|style|schema)',
      name: 'collection',
      component: dataPage,
      meta: { title: 'Data' },
    },
    {
      path: '/changes',
      name: 'changes',
      component: () => import('./changes/ChangesPage.vue'),
      meta: { title: 'Changes' },
    },
    {
      path: '/suggestions/:collection/:suggestion',
      name: 'suggestion',
      component: () => import('./changes/SuggestionPage.vue'),
      meta: { title: 'Suggestion' },
    },
    {
      path: '/devices',
      name: 'devices',
      component: () => import('./devices/DevicesPage.vue'),
      meta: { title: 'Devices' },
    },
    { path: '/access', name: 'access', component: () => import('./access/AccessPage.vue'), meta: { title: 'Access' } },
    { path: '/:rest(.*)', name: 'nothing', component: () => import('./NoPage.vue'), meta: { title: 'No such page' } },
  ],
})

// What signs in is not kept in the address.
router.beforeEach((to) => (to.hash.includes('=') ? { ...to, hash: '', replace: true } : true))

router.afterEach((to, from) => {
  document.title = `${to.meta.title} · Idle Beacon`
  // A screen reader hears of a new page by its heading.
  if (from.matched.length > 0 && to.meta.title !== from.meta.title) {
    requestAnimationFrame(() => document.querySelector<HTMLElement>('main h1')?.focus({ preventScroll: true }))
  }
})
