<script setup lang="ts">
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import AlertCount from './components/AlertCount.vue'
import { useLive } from './stores/live'
import { useSession } from './stores/session'

const route = useRoute()
const router = useRouter()
const session = useSession()
const live = useLive()
const framed = computed(() => !route.meta.open && session.who !== null)

// Each page of the menu, with what it shows first: who may not see that is not led there.
const menu = [
  ['/', 'Overview', 'GET /api/v1/overview'],
  ['/devices', 'Devices', 'GET /api/v1/devices'],
  ['/people', 'People', 'GET /api/v1/people'],
  ['/certificates', 'Certificates', 'GET /api/v1/certificates'],
  ['/exceptions', 'Exceptions', 'GET /api/v1/waivers'],
  ['/sources', 'Sources', 'GET /api/v1/sources'],
  ['/rulebook', 'Rulebook', 'GET /api/v1/rulebooks/{version}'],
  ['/gates', 'Gates', 'GET /api/v1/gates'],
  ['/ask', 'Ask', 'POST /api/v1/ask'],
  ['/signals', 'Signals', 'GET /api/v1/streams'],
  ['/decisions', 'Decisions', 'GET /api/v1/decisions'],
  ['/ledger', 'Ledger', 'GET /api/v1/ledger'],
] as const
const pages = computed(() => menu.filter(([, , shows]) => session.can(shows)))

// A page belongs to the one of the menu that its address begins with.
const here = (to: string) =>
  route.matched.length > 0 && (route.path === to || (to !== '/' && route.path.startsWith(`${to}/`)))

async function signOut() {
  await session.signOut()
  await router.push({ name: 'sign-in' })
}
</script>

<template>
  <div v-if="framed" class="frame">
    <a class="skip" href="#page">To the page</a>
    <header>
      <router-link to="/" class="name"><img src="/mark.svg" alt="" width="22" height="22" />Iron Ledger</router-link>
      <nav aria-label="Pages">
        <router-link
          v-for="[to, title] in pages"
          :key="to"
          :to="to"
          active-class=""
          exact-active-class=""
          :class="{ here: here(to) }"
          >{{ title }}</router-link
        >
      </nav>
      <AlertCount v-if="session.can('GET /api/v1/alerts')" />
      <span class="who soft small"
        >{{ session.who?.name }}, {{ session.who?.role
        }}<span v-if="live.state === 'lost'" class="lost" role="status"> · not live, trying again</span></span
      >
      <el-button link @click="signOut">Sign out</el-button>
    </header>
    <main id="page" tabindex="-1"><router-view /></main>
  </div>
  <router-view v-else />
</template>

<style scoped>
header {
  display: flex;
  align-items: center;
  gap: 18px;
  padding: 0 32px;
  border-bottom: 1px solid var(--rule-strong);
  background: var(--sheet);
}
.name {
  font-family: var(--serif);
  font-weight: 600;
  font-size: 17px;
  text-decoration: none;
  display: flex;
  align-items: center;
  gap: 8px;
}
nav {
  display: flex;
  gap: 12px;
  flex: 1;
}
nav a {
  text-decoration: none;
  padding: 14px 2px 11px;
  border-bottom: 3px solid transparent;
}
nav a.here {
  border-bottom-color: var(--metal);
  font-weight: 600;
}
header > * {
  white-space: nowrap;
}
main {
  padding: 24px 32px 64px;
  max-width: 1440px;
  margin: 0 auto;
}
main:focus {
  outline: none;
}
.lost {
  color: var(--metal);
}
.skip {
  position: absolute;
  left: -999px;
}
.skip:focus {
  left: 8px;
  top: 8px;
  background: var(--sheet);
  padding: 4px 8px;
  z-index: 9;
}
</style>
