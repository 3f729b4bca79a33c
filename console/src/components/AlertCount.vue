<script setup lang="ts">
// How many things need a person that nobody has seen, with the way there.
import { onUnmounted } from 'vue'
import { api, must } from '../api/client'
import { ofKinds, useLoad } from '../composables/useLoad'

const { data, again } = useLoad(
  () => must(api.GET('/api/v1/alerts')),
  () => true,
  ofKinds('alert.', 'enrolment.', 'device.', 'stream.', 'notice.', 'rulebook.'),
)
const timer = setInterval(again, 60_000)
onUnmounted(() => clearInterval(timer))
</script>

<template>
  <router-link :to="{ name: 'alerts' }" class="alerts" :class="{ some: data?.unseen }" active-class="here">
    {{ data?.unseen ? `${data.unseen} to look at` : 'Nothing to look at' }}
  </router-link>
</template>

<style scoped>
.alerts {
  text-decoration: none;
  font-size: 13px;
  color: var(--ink-soft);
}
.some {
  color: var(--metal);
  font-weight: 600;
}
</style>
