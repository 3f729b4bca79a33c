import { nextTick } from 'vue'
import { createRouter, createWebHistory } from 'vue-router'
import { useSession } from './stores/session'

export const router = createRouter({
  history: createWebHistory(),
  scrollBehavior: (to) => (to.hash ? { el: to.hash } : undefined),
  routes: [
    {
      path: '/sign-in',
      name: 'sign-in',
      component: () => import('./views/SignInView.vue'),
      meta: { title: 'Sign in', open: true },
    },
    { path: '/', name: 'overview', component: () => import('./views/OverviewView.vue'), meta: { title: 'Overview' } },
    {
      path: '/devices',
      name: 'devices',
      component: () => import('./views/DevicesView.vue'),
      meta: { title: 'Devices' },
    },
    {
      path: '/devices/:id',
      name: 'device',
      component: () => import('./views/DeviceView.vue'),
      props: true,
      meta: { title: 'Device' },
    },
    {
      path: '/alerts',
      name: 'alerts',
      component: () => import('./views/AlertsView.vue'),
      meta: { title: 'What needs you' },
    },
    { path: '/rules', name: 'rule-list', component: () => import('./views/RulesView.vue'), meta: { title: 'Rules' } },
    {
      path: '/rules/:baseline/:rule',
      name: 'rule',
      component: () => import('./views/RuleView.vue'),
      props: true,
      meta: { title: 'Rule' },
    },
    {
      path: '/networks',
      name: 'networks',
      component: () => import('./views/NetworksView.vue'),
      meta: { title: 'Networks' },
    },
    {
      path: '/reports',
      name: 'reports',
      component: () => import('./views/ReportsView.vue'),
      meta: { title: 'Reports' },
    },
    {
      path: '/reports/:id',
      name: 'report',
      component: () => import('./views/ReportsView.vue'),
      props: true,
      meta: { title: 'Report' },
    },
    { path: '/tokens', name: 'tokens', component: () => import('./views/TokensView.vue'), meta: { title: 'Tokens' } },
    { path: '/people', name: 'people', component: () => import('./views/PeopleView.vue'), meta: { title: 'People' } },
    {
      path: '/people/:id',
      name: 'person',
      component: () => import('./views/PersonView.vue'),
      props: true,
      meta: { title: 'Person' },
    },
    {
      path: '/certificates',
      name: 'certificates',
      component: () => import('./views/CertificatesView.vue'),
      meta: { title: 'Certificates' },
    },
    {
      path: '/exceptions',
      name: 'exceptions',
      component: () => import('./views/ExceptionsView.vue'),
      meta: { title: 'Exceptions' },
    },
    {
      path: '/sources',
      component: () => import('./views/SourcesView.vue'),
      meta: { title: 'Sources' },
      children: [
        {
          path: '',
          name: 'sources',
          component: () => import('./views/sources/ReportsView.vue'),
          meta: { title: 'Sources' },
        },
        {
          path: 'import',
          name: 'import',
          component: () => import('./views/sources/ImportView.vue'),
          meta: { title: 'Bring in a file' },
        },
        {
          path: 'feeds',
          name: 'feeds',
          component: () => import('./views/sources/FeedList.vue'),
          meta: { title: 'Feeds' },
        },
        {
          path: 'feeds/new',
          name: 'feed-new',
          component: () => import('./views/sources/FeedSetup.vue'),
          meta: { title: 'Set up a feed' },
        },
        {
          path: 'feeds/:id',
          name: 'feed',
          component: () => import('./views/sources/FeedView.vue'),
          props: true,
          meta: { title: 'Feed' },
        },
        {
          path: 'feeds/:id/change',
          name: 'feed-change',
          component: () => import('./views/sources/FeedSetup.vue'),
          props: true,
          meta: { title: 'Change a feed' },
        },
      ],
    },
    {
      path: '/rulebook',
      component: () => import('./views/RulebookView.vue'),
      meta: { title: 'Rulebook' },
      children: [
        {
          path: '',
          name: 'rulebook',
          component: () => import('./views/rulebook/TextView.vue'),
          meta: { title: 'Rulebook' },
        },
        {
          path: 'rules',
          name: 'rules',
          component: () => import('./views/rulebook/RulesView.vue'),
          meta: { title: 'Rules' },
        },
        {
          path: 'gates',
          name: 'gate-form',
          component: () => import('./views/rulebook/GatesFormView.vue'),
          meta: { title: 'Gates of the draft' },
        },
        {
          path: 'rehearsal',
          name: 'rehearsal',
          component: () => import('./views/rulebook/RehearsalView.vue'),
          meta: { title: 'Rehearsal' },
        },
        {
          path: 'versions',
          name: 'versions',
          component: () => import('./views/rulebook/VersionsView.vue'),
          meta: { title: 'Versions' },
        },
      ],
    },
    {
      path: '/gates',
      component: () => import('./views/GatesView.vue'),
      meta: { title: 'Gates' },
      children: [
        { path: '', name: 'gates', component: () => import('./views/gates/ListView.vue'), meta: { title: 'Gates' } },
        {
          path: 'coverage',
          name: 'coverage',
          component: () => import('./views/gates/CoverageView.vue'),
          meta: { title: 'Coverage' },
        },
        {
          path: 'sessions',
          name: 'sessions',
          component: () => import('./views/gates/SessionsView.vue'),
          meta: { title: 'Sessions' },
        },
      ],
    },
    {
      path: '/ask',
      component: () => import('./views/AskView.vue'),
      meta: { title: 'Ask' },
      children: [
        { path: '', name: 'ask', component: () => import('./views/ask/OneView.vue'), meta: { title: 'Ask' } },
        {
          path: 'who',
          name: 'ask-who',
          component: () => import('./views/ask/WhoView.vue'),
          meta: { title: 'Who reaches this' },
        },
        {
          path: 'what',
          name: 'ask-what',
          component: () => import('./views/ask/WhatView.vue'),
          meta: { title: 'What a person reaches' },
        },
      ],
    },
    {
      path: '/signals',
      component: () => import('./views/SignalsView.vue'),
      meta: { title: 'Signals' },
      children: [
        {
          path: '',
          name: 'signals',
          component: () => import('./views/signals/ReceiversView.vue'),
          meta: { title: 'Signals' },
        },
        {
          path: 'notices',
          name: 'notices',
          component: () => import('./views/signals/NoticesView.vue'),
          meta: { title: 'Notices' },
        },
      ],
    },
    {
      path: '/decisions',
      name: 'decisions',
      component: () => import('./views/DecisionsView.vue'),
      meta: { title: 'Decisions' },
    },
    {
      path: '/decisions/:id',
      name: 'decision',
      component: () => import('./views/DecisionView.vue'),
      props: true,
      meta: { title: 'Decision' },
    },
    { path: '/ledger', name: 'ledger', component: () => import('./views/LedgerView.vue'), meta: { title: 'Ledger' } },
    {
      path: '/ledger/:seq(\\d+)',
      name: 'entry',
      component: () => import('./views/EntryView.vue'),
      props: true,
      meta: { title: 'Entry' },
    },
    {
      path: '/:rest(.*)*',
      name: 'nothing',
      component: () => import('./views/NothingView.vue'),
      meta: { title: 'Nothing here' },
    },
  ],
})

router.beforeEach(async (to) => {
  document.title = `${String(to.meta.title)} · Iron Ledger`
  const session = useSession()
  if (to.meta.open) return true
  if (await session.known()) return true
  return { name: 'sign-in', query: { to: to.fullPath } }
})

// Who comes to another page by keyboard, or hears it read out, begins at its top; who
// changes a filter stays where they are.
router.afterEach((to, from) => {
  if (from.matched.length > 0 && to.path !== from.path)
    void nextTick(() => document.getElementById('page')?.focus({ preventScroll: true }))
})
