<script setup lang="ts">
// The latest notices about a device, or to a person about theirs.
import { api, must } from '../api/client'
import { ofKinds, useLoad } from '../composables/useLoad'
import NoticeRows from './NoticeRows.vue'
import ProblemNote from './ProblemNote.vue'

const props = defineProps<{ device?: string; person?: string }>()
const { data, problem, again } = useLoad(
  () => must(api.GET('/api/v1/notices', { params: { query: { ...props, limit: 5 } } })),
  () => [props.device, props.person],
  ofKinds('notice.', 'standing.'),
)
</script>

<template>
  <section v-if="problem || data?.items.length">
    <h2>Notices</h2>
    <ProblemNote v-if="problem" :problem="problem" @again="again" />
    <template v-else-if="data">
      <NoticeRows :items="data.items" />
      <p v-if="data.total > data.items.length" class="small">
        <router-link :to="{ name: 'notices', query: { device, person } }">all {{ data.total }}</router-link>
      </p>
    </template>
  </section>
</template>
