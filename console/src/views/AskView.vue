<script setup lang="ts">
import { useSession } from '../stores/session'

const session = useSession()
</script>

<template>
  <header class="tabbed">
    <h1>Ask</h1>
    <nav aria-label="Questions">
      <router-link :to="{ name: 'ask' }" exact-active-class="on">May this person?</router-link>
      <router-link :to="{ name: 'ask-who' }" active-class="on">Who reaches this?</router-link>
      <router-link :to="{ name: 'ask-what' }" active-class="on">What does this person reach?</router-link>
    </nav>
  </header>
  <p v-if="!session.can('POST /api/v1/ask')" class="soft">Your role, {{ session.who?.role }}, may look but not ask.</p>
  <router-view v-else />
</template>
