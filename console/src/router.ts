import { createRouter, createWebHistory } from 'vue-router'
import Fleet from './pages/fleet/Fleet.vue'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', redirect: '/today' },
    {
      path: '/today',
      name: 'today',
      component: () => import('./pages/today/Today.vue'),
      meta: { title: 'Today' },
    },
    { path: '/fleet', name: 'fleet', component: Fleet, meta: { title: 'Fleet' } },
    {
      path: '/device',
      name: 'device',
      component: () => import('./pages/device/Device.vue'),
      meta: { title: 'Device', under: 'fleet' },
    },
    {
      path: '/changes',
      name: 'changes',
      component: () => import('./pages/changes/Changes.vue'),
      meta: { title: 'Changes' },
    },
    {
      path: '/windows',
      name: 'windows',
      component: () => import('./pages/changes/Windows.vue'),
      meta: { title: 'Agreed hours' },
    },
    {
      path: '/signals',
      name: 'signals',
      component: () => import('./pages/signals/Signals.vue'),
      meta: { title: 'Signals' },
    },
    {
      path: '/subscriptions',
      name: 'telling',
      component: () => import('./pages/telling/Telling.vue'),
      meta: { title: 'Subscriptions' },
    },
    {
      path: '/audit',
      name: 'audit',
      component: () => import('./pages/audit/Audit.vue'),
      meta: { title: 'Audit' },
    },
    {
      path: '/waivers',
      name: 'waivers',
      component: () => import('./pages/audit/Waivers.vue'),
      meta: { title: 'Waivers', under: 'audit' },
    },
    {
      path: '/drift',
      name: 'drift',
      component: () => import('./pages/drift/Drift.vue'),
      meta: { title: 'Drift' },
    },
    {
      path: '/standards',
      name: 'standards',
      component: () => import('./pages/standards/Standards.vue'),
      meta: { title: 'Standards' },
    },
    {
      path: '/standards/document',
      name: 'document',
      component: () => import('./pages/standards/Document.vue'),
      meta: { title: 'Document', under: 'standards' },
    },
    {
      path: '/compare',
      name: 'compare',
      component: () => import('./pages/compare/Compare.vue'),
      meta: { title: 'Compare' },
    },
    {
      path: '/search',
      name: 'search',
      component: () => import('./pages/search/Search.vue'),
      meta: { title: 'Search' },
    },
    {
      path: '/past',
      name: 'past',
      component: () => import('./pages/past/Past.vue'),
      meta: { title: 'As of', under: 'fleet' },
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
      path: '/rounds/:id(\\d+)/visit',
      name: 'visit',
      component: () => import('./pages/rounds/Story.vue'),
      meta: { title: 'Visit', under: 'rounds' },
    },
    {
      path: '/journal',
      name: 'journal',
      component: () => import('./pages/journal/Journal.vue'),
      meta: { title: 'Journal' },
    },
    {
      path: '/add',
      name: 'add',
      component: () => import('./pages/add/Add.vue'),
      meta: { title: 'Add devices' },
    },
    {
      path: '/groups',
      name: 'groups',
      component: () => import('./pages/groups/Groups.vue'),
      meta: { title: 'Groups and sites' },
    },
    {
      path: '/schedules',
      name: 'schedules',
      component: () => import('./pages/schedules/Schedules.vue'),
      meta: { title: 'Schedules' },
    },
    {
      path: '/credentials',
      name: 'credentials',
      component: () => import('./pages/credentials/Credentials.vue'),
      meta: { title: 'Credentials' },
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
