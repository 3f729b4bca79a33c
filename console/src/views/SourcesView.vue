<script setup lang="ts">
import { useSession } from '../stores/session'

const session = useSession()
</script>

<template>
  <header class="tabbed">
    <h1>Sources</h1>
    <nav aria-label="Sources">
      <router-link :to="{ name: 'sources' }" exact-active-class="on">What they say</router-link>
      <router-link :to="{ name: 'feeds' }" :class="{ on: $route.path.startsWith('/sources/feeds') }">Feeds</router-link>
      <router-link v-if="session.can('POST /api/v1/imports')" :to="{ name: 'import' }" active-class="on"
        >Bring in a file</router-link
      >
    </nav>
  </header>
  <router-view />
</template>
