<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import AlertCount from './components/AlertCount.vue'
import FindAnything from './components/FindAnything.vue'
import { below, pagesFor } from './composables/menu'
import { useLive } from './stores/live'
import { useSession } from './stores/session'

const route = useRoute()
const router = useRouter()
const session = useSession()
const live = useLive()
const framed = computed(() => !route.meta.open && session.who !== null)

const groups = computed(() => pagesFor(session.can))
const within = computed(
  () => route.matched.length > 0 && groups.value.find((g) => g.pages.some((p) => below(route.path, p.to))),
)

// On a narrow screen the pages stand behind a button.
const open = ref(false)
watch(
  () => route.fullPath,
  () => (open.value = false),
)

async function signOut() {
  await session.signOut()
  await router.push({ name: 'sign-in' })
}
</script>

<template>
  <div v-if="framed" class="frame">
    <a class="skip" href="#page">To the page</a>
    <header>
      <div class="top">
        <router-link to="/" class="name"
          ><img src="/mark.svg" alt="" width="22" height="22" /><span>Iron Ledger</span></router-link
        >
        <button class="more" type="button" :aria-expanded="open" aria-controls="pages" @click="open = !open">
          {{ within ? within.name : 'Pages' }}
        </button>
        <nav id="pages" class="groups" :class="{ open }" aria-label="Pages">
          <template v-for="g in groups" :key="g.name">
            <router-link
              :to="g.pages[0]!.to"
              class="group"
              active-class=""
              exact-active-class=""
              :class="{ here: within && within.name === g.name }"
              >{{ g.name }}</router-link
            >
            <span class="all">
              <router-link v-for="p in g.pages" :key="p.to" :to="p.to" active-class="" exact-active-class="">{{
                p.title
              }}</router-link>
            </span>
          </template>
        </nav>
        <FindAnything :groups="groups" />
        <AlertCount v-if="session.can('GET /api/v1/alerts')" />
        <span class="who soft small"
          >{{ session.who?.name }}, {{ session.who?.role
          }}<span v-if="live.state === 'lost'" class="lost" role="status"> · not live, trying again</span></span
        >
        <el-button link class="leave" @click="signOut">Sign out</el-button>
      </div>
      <nav v-if="within && within.pages.length > 1" class="pages" :aria-label="within.name">
        <router-link
          v-for="p in within.pages"
          :key="p.to"
          :to="p.to"
          active-class=""
          exact-active-class=""
          :class="{ here: below(route.path, p.to) }"
          >{{ p.title }}</router-link
        >
      </nav>
    </header>
    <main id="page" tabindex="-1"><router-view /></main>
  </div>
  <router-view v-else />
</template>

<style scoped>
header {
  border-bottom: 1px solid var(--rule-strong);
  background: var(--sheet);
}
.top,
.pages {
  display: flex;
  align-items: center;
  gap: 18px;
  padding: 0 32px;
}
.name {
  font-family: var(--serif);
  font-weight: 600;
  font-size: 17px;
  text-decoration: none;
  display: flex;
  align-items: center;
  gap: 8px;
  margin-right: 12px;
}
.groups {
  display: flex;
  gap: 22px;
  flex: 1;
}
.groups .all,
.more {
  display: none;
}
nav a {
  text-decoration: none;
  padding: 12px 2px 9px;
  border-bottom: 3px solid transparent;
}
nav a.here {
  border-bottom-color: var(--metal);
  font-weight: 600;
}
.pages {
  border-top: 1px solid var(--rule);
  overflow-x: auto;
}
.pages a {
  padding: 7px 2px 5px;
  font-size: 14px;
}
.top > *,
.pages > * {
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
@media (max-width: 1000px) {
  .who {
    display: none;
  }
}
@media (max-width: 820px) {
  .top,
  .pages {
    padding: 0 14px;
    gap: 12px;
  }
  .top {
    flex-wrap: wrap;
    padding-block: 8px;
  }
  .name {
    margin-right: auto;
  }
  .top .el-button {
    padding: 4px 0;
  }
  main {
    padding: 16px 14px 48px;
  }
  .more {
    display: block;
    order: -1;
    background: none;
    border: 1px solid var(--rule);
    color: inherit;
    font-size: 14px;
    padding: 5px 10px;
    border-radius: 2px;
  }
  .more::after {
    content: ' ▾';
  }
  .groups {
    display: none;
    order: 9;
    flex-basis: 100%;
  }
  .groups.open {
    display: grid;
    grid-template-columns: max-content 1fr;
    gap: 4px 18px;
  }
  .groups.open .all {
    display: flex;
    flex-wrap: wrap;
    gap: 0 14px;
    white-space: normal;
  }
  .groups a {
    padding: 8px 2px;
    border: 0;
  }
  .groups .group {
    color: var(--ink-soft);
    font-size: 13px;
  }
}
@media (max-width: 520px) {
  .name span {
    display: none;
  }
}
</style>
