<script setup lang="ts">
// What the last twelve reports of one in the rulebook said of each control; what got worse is first.
import { computed } from 'vue'
import { api, must } from '../api/client'
import { ofKinds, useLoad } from '../composables/useLoad'
import ProblemNote from './ProblemNote.vue'
import ShareLine from './ShareLine.vue'

const props = defineProps<{ report: string }>()
const { data, problem, again } = useLoad(
  () => must(api.GET('/api/v1/reports/trends', { params: { query: { report: props.report } } })),
  () => props.report,
  ofKinds('report.'),
)
const least = computed(() =>
  Math.min(1, ...(data.value?.controls ?? []).flatMap((c) => c.shares.filter((s) => s !== null))),
)
const percent = (share: number | null) => (share === null ? '·' : (Math.floor(share * 10000) / 100).toFixed(2))
</script>

<template>
  <h2>
    Trends <span class="soft small">of {{ report }}: percent of the time in which a control was met</span>
  </h2>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <p v-else-if="data && data.periods.length < 2" class="empty">
    Two reports make a trend; {{ data.periods.length }} so far.
  </p>
  <div v-else-if="data" class="scrolls">
    <table class="ruled">
      <thead>
        <tr>
          <th>Control</th>
          <th></th>
          <th v-for="p in data.periods" :key="p.id" class="number">
            <router-link :to="{ name: 'report', params: { id: p.id } }">{{ p.from.slice(0, 10) }}</router-link>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="c in data.controls" :key="c.control">
          <td>
            <code>{{ c.control }}</code> {{ c.title }}
          </td>
          <td><ShareLine :shares="c.shares" :least="least" /></td>
          <td
            v-for="(s, i) in c.shares"
            :key="i"
            class="number"
            :class="{ worse: i === c.shares.length - 1 && c.worse > 0 }"
            :title="`${c.not_met[i]} devices did not meet it at the end`"
          >
            <template v-if="i === c.shares.length - 1 && c.worse > 0">↓ </template>{{ percent(s) }}
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.number {
  text-align: right;
}
.worse {
  color: var(--metal);
  font-weight: 600;
  white-space: nowrap;
}
</style>
