<script setup lang="ts">
// On which networks a device, or the devices of a person, are now.
import { api, must } from '../api/client'
import { ofKinds, useLoad } from '../composables/useLoad'
import ProblemNote from './ProblemNote.vue'
import TimeText from './TimeText.vue'

const props = defineProps<{ device?: string; person?: string }>()
const { data, problem, again } = useLoad(
  () => must(api.GET('/api/v1/networks/stays', { params: { query: { ...props, limit: 20 } } })),
  () => [props.device, props.person],
  ofKinds('stay.', 'decision.', 'standing.'),
)
</script>

<template>
  <section v-if="problem || data?.items.length">
    <h2>On networks now</h2>
    <ProblemNote v-if="problem" :problem="problem" @again="again" />
    <ul v-else-if="data" class="plain">
      <li v-for="s in data.items" :key="s.id">
        <router-link :to="{ name: 'networks', query: { device: s.device }, hash: '#there' }">{{
          s.network
        }}</router-link><template v-if="person">, with {{ s.device || s.address }}</template
        >:
        <router-link :to="{ name: 'decision', params: { id: s.decision } }">{{
          s.granted?.grant ?? 'nothing'
        }}</router-link><template v-if="s.granted?.vlan">, VLAN {{ s.granted.vlan }}</template
        ><template v-if="s.granted?.recover">, to get well in</template>, since <TimeText :time="s.since" /> at
        {{ s.access_point }}
        <strong v-if="s.untold_since"
          >; the access point could not be told <TimeText :time="s.untold_since" /> that it is
          {{ s.granting ? s.granting.grant : 'to leave' }}</strong
        >
      </li>
    </ul>
  </section>
</template>

<style scoped>
.plain {
  list-style: none;
  padding: 0;
}
</style>
