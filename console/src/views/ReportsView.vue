<script setup lang="ts">
// Reports on controls: one over a period or at a moment, those that were kept, and what the last ones say together.
import { computed, ref, watch } from 'vue'
import { api, must } from '../api/client'
import ControlSheet from '../components/ControlSheet.vue'
import ProblemNote from '../components/ProblemNote.vue'
import ReportTrends from '../components/ReportTrends.vue'
import TimeText from '../components/TimeText.vue'
import { count } from '../composables/format'
import { ofKinds, useLoad } from '../composables/useLoad'
import { useQuery } from '../composables/useQuery'

const props = defineProps<{ id?: string }>()
const { query, set } = useQuery('from', 'to', 'control', 'trend')

const midnight = (daysAgo: number) => {
  const d = new Date(Date.now() - daysAgo * 86400_000)
  return `${d.toISOString().slice(0, 10)}T00:00:00Z`
}
const month = (back: number) => {
  const d = new Date()
  return new Date(Date.UTC(d.getUTCFullYear(), d.getUTCMonth() - back, 1)).toISOString().slice(0, 19) + 'Z'
}
/** Without a word about the period it is the last seven days that have ended. */
const asked = computed(() => ({
  from: query.value.from === 'none' ? '' : query.value.from || (query.value.to ? '' : midnight(7)),
  to: query.value.to || (query.value.from ? '' : midnight(0)),
}))
const presets = [
  { name: 'Seven days', query: () => ({ from: '', to: '' }) },
  { name: 'This month', query: () => ({ from: month(0), to: '' }) },
  { name: 'Last month', query: () => ({ from: month(1), to: month(0) }) },
  { name: 'Now', query: () => ({ from: 'none', to: '' }) },
]
const span = ref<[string, string] | null>(null)
watch(asked, ({ from, to }) => (span.value = from && to ? [from.slice(0, 10), to.slice(0, 10)] : null), {
  immediate: true,
})
const choose = (days: [string, string] | null) => {
  if (days) void set({ from: `${days[0]}T00:00:00Z`, to: `${days[1]}T00:00:00Z` })
}

const { data, problem, loading, again } = useLoad(
  () =>
    props.id
      ? must(api.GET('/api/v1/reports/kept/{id}', { params: { path: { id: props.id } } }))
      : must(
          api.GET('/api/v1/reports/controls', {
            params: {
              query: {
                ...(asked.value.from && { from: asked.value.from }),
                ...(asked.value.to && { to: asked.value.to }),
                ...(query.value.control && { control: query.value.control }),
              },
            },
          }),
        ),
  () => [props.id, asked.value.from, asked.value.to, query.value.control],
)
const { data: kept } = useLoad(
  () => must(api.GET('/api/v1/reports')),
  () => null,
  ofKinds('report.', 'rulebook.'),
)
const trend = computed(() => query.value.trend || kept.value?.asked[0]?.id || kept.value?.items[0]?.report || '')
const report = computed(() => data.value?.report)
const day = (time: string) => time.slice(0, 16).replace('T', ' ').replace(' 00:00', '')
const file = (form: string) => {
  const p = new URLSearchParams({ form })
  if (props.id) return `/api/v1/reports/kept/${encodeURIComponent(props.id)}?${p}`
  const r = report.value
  if (r?.from) p.set('from', r.from)
  if (r) p.set('to', r.to)
  if (query.value.control) p.set('control', query.value.control)
  return `/api/v1/reports/controls?${p}`
}
const forms = [
  ['html', 'for print'],
  ['csv', 'CSV'],
  ['oscal', 'OSCAL'],
  ['json', 'JSON'],
] as const
</script>

<template>
  <h1>
    <template v-if="id">
      <router-link :to="{ name: 'reports' }">Reports</router-link> <span class="soft">/ {{ id }}</span>
    </template>
    <template v-else>Reports</template>
  </h1>
  <p v-if="!id" class="soft">
    Which written controls were met, by what, over a period: worked out from the ledger alone, so that the same period
    gives the same report whoever makes it.
  </p>
  <div v-if="!id" class="asked">
    <label>
      <span class="soft small">From, until before</span>
      <el-date-picker
        v-model="span"
        type="daterange"
        value-format="YYYY-MM-DD"
        range-separator="–"
        start-placeholder="from"
        end-placeholder="until"
        :aria-label="'The period'"
        @change="choose"
      />
    </label>
    <el-button v-for="p in presets" :key="p.name" link type="primary" @click="set(p.query())">{{ p.name }}</el-button>
  </div>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-else-if="!report || loading" :rows="10" animated />
  <template v-else-if="report && data">
    <div class="heading">
      <h2>
        <template v-if="report.from">{{ day(report.from) }} – {{ day(report.to) }}</template>
        <template v-else>As of {{ day(report.to) }}</template>
        <span class="soft small">
          UTC<template v-if="report.catalogue">, {{ report.catalogue }} {{ report.edition }}</template>
        </span>
      </h2>
      <nav aria-label="The report as a file">
        <a v-for="[form, name] in forms" :key="form" :href="file(form)" :target="form === 'html' ? '_blank' : undefined"
          >{{ name }}
        </a>
      </nav>
    </div>
    <ControlSheet :report="report" :note="data.note" />
  </template>
  <template v-if="!id">
    <ReportTrends v-if="trend" :report="trend" />
    <h2>Kept</h2>
    <p v-if="kept && kept.asked.length === 0" class="empty">
      The rulebook asks for no reports: write them into its section <code>reports</code>.
    </p>
    <p v-for="r in kept?.asked ?? []" :key="r.id" class="soft">
      <router-link :to="{ query: { ...$route.query, trend: r.id } }">{{ r.id }}</router-link>: every {{ r.every }}, next
      <TimeText :time="r.next" /><template v-if="r.to.length">, sent to {{ r.to.join(', ') }}</template
      >.
    </p>
    <div v-if="kept && kept.items.length > 0" class="scrolls">
      <table class="ruled">
        <thead>
          <tr>
            <th>Report</th>
            <th>From</th>
            <th>Until</th>
            <th class="number">Controls</th>
            <th class="number">Not met</th>
            <th>Made</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in kept.items.slice(0, 40)" :key="r.id">
            <td>
              <router-link :to="{ name: 'report', params: { id: r.id } }">{{ r.id }}</router-link>
            </td>
            <td class="nowrap">{{ day(r.from) }}</td>
            <td class="nowrap">{{ day(r.to) }}</td>
            <td class="number">{{ r.controls }}</td>
            <td class="number">{{ r.not_met }}</td>
            <td><TimeText :time="r.at" /></td>
          </tr>
        </tbody>
      </table>
    </div>
    <p v-if="kept && kept.items.length > 40" class="soft">and {{ count(kept.items.length - 40, 'older one') }}.</p>
  </template>
</template>

<style scoped>
.number {
  text-align: right;
}
.asked {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 14px;
  align-items: end;
  margin: 10px 0 4px;
}
.asked label {
  display: grid;
  gap: 4px;
}
.heading {
  display: flex;
  flex-wrap: wrap;
  justify-content: space-between;
  align-items: baseline;
  gap: 4px 20px;
}
.heading nav {
  display: flex;
  gap: 14px;
}
</style>
