import { createRouter, createWebHistory } from 'vue-router'
import Fleet from './pages/fleet/Fleet.vue'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', redirect: '/fleet' },
    { path: '/fleet', name: 'fleet', component: Fleet, meta: { title: 'Fleet' } },
    {
      path: '/device',
      name: 'device',
      component: () => import('./pages/device/Device.vue'),
      meta: { title: 'Device', under: 'fleet' },
    },
    {
      path: '/compare',
      name: 'compare',
      component: () => import('./pages/compare/Compare.vue'),
      meta: { title: 'Compare' },
    },
    {
      path: '/rounds',
      name: 'rounds',
      component: () => import('./pages/rounds/Rounds.vue'),
      meta: { title: 'Rounds' },
    },
    {
      path: '/rounds/:id(\\d+)',
      name: 'round',
      component: () => import('./pages/rounds/Round.vue'),
      meta: { title: 'Round', under: 'rounds' },
    },
    {
      path: '/journal',
      name: 'journal',
      component: () => import('./pages/journal/Journal.vue'),
      meta: { title: 'Journal' },
    },
    {
      path: '/:rest(.*)*',
      name: 'nowhere',
      component: () => import('./pages/Nowhere.vue'),
      meta: { title: 'Nothing here' },
    },
  ],
})
router.afterEach((to) => {
  document.title = `${String(to.query['name'] ?? to.meta['title'])} · Verge Keep`
})
