import { createRouter, createWebHistory } from 'vue-router'
import { useSession } from './stores/session'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/sign-in', name: 'sign-in', component: () => import('./views/SignInView.vue'), meta: { title: 'Sign in', open: true } },
    { path: '/', redirect: '/devices' },
    { path: '/devices', name: 'devices', component: () => import('./views/DevicesView.vue'), meta: { title: 'Devices' } },
    { path: '/devices/:id', name: 'device', component: () => import('./views/DeviceView.vue'), props: true, meta: { title: 'Device' } },
    { path: '/ask', name: 'ask', component: () => import('./views/AskView.vue'), meta: { title: 'Ask' } },
    { path: '/decisions', name: 'decisions', component: () => import('./views/DecisionsView.vue'), meta: { title: 'Decisions' } },
    { path: '/decisions/:id', name: 'decision', component: () => import('./views/DecisionView.vue'), props: true, meta: { title: 'Decision' } },
    { path: '/:rest(.*)*', name: 'nothing', component: () => import('./views/NothingView.vue'), meta: { title: 'Nothing here' } },
  ],
})

router.beforeEach(async (to) => {
  document.title = `${String(to.meta.title)} · Iron Ledger`
  const session = useSession()
  if (to.meta.open) return true
  if (await session.known()) return true
  return { name: 'sign-in', query: { to: to.fullPath } }
})
