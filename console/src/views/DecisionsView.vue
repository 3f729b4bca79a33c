<script setup lang="ts">
import { computed, defineAsyncComponent, reactive, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, must, type Answer, type Outcome } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import PersonName from '../components/PersonName.vue'
import ProblemNote from '../components/ProblemNote.vue'
import TimeText from '../components/TimeText.vue'
import { devices, people } from '../composables/asking'
import { decisiveGates } from '../composables/format'
import { useAct } from '../composables/useAct'
import { ofKinds, useLoad } from '../composables/useLoad'
import { usePages } from '../composables/usePages'
import { useQuery } from '../composables/useQuery'

const FleetChart = defineAsyncComponent(() => import('../components/FleetChart.vue'))
const router = useRouter()
const { query, set } = useQuery('person', 'device', 'resource', 'outcome', 'gate', 'since', 'cursor')
const form = reactive({ ...query.value })
watch(query, (q) => Object.assign(form, q))

const { data: page, problem, loading, again } = useLoad(
  () => {
    const { outcome, since, ...rest } = query.value
    return must(api.GET('/api/v1/decisions', { params: { query: { ...rest, since: momentOf(since), ...(outcome && { outcome: outcome as Outcome }), limit: 25 } } }))
  },
  () => query.value,
  (changes) => query.value.cursor === '' && ofKinds('decision.')(changes),
)

const { data: counts } = useLoad(() => must(api.GET('/api/v1/decision-counts', { params: { query: { days: 7 } } })), () => null)
const course = computed(() => {
  const items = counts.value?.items ?? []
  const along = [...new Set(items.map((c) => c.at))].sort()
  const sum = (at: string, outcome: Outcome) => items.filter((c) => c.at === at && c.outcome === outcome).reduce((n, c) => n + c.count, 0)
  // The last stretch lasts until now.
  const series = (['deny', 'step-up', 'allow'] as const).map((name) => ({ name, values: [...along, along.at(-1) ?? ''].map((at) => sum(at, name)) }))
  return { along: [...along, new Date().toISOString()], series }
})
const csv = computed(() => `/api/v1/decisions?${new URLSearchParams({ ...Object.fromEntries(Object.entries({ ...query.value, since: momentOf(query.value.since) }).filter(([k, v]) => v !== '' && k !== 'cursor')), format: 'csv' })}`)
const code = ref('')
const { busy, problem: unknown, act } = useAct()
async function find() {
  await act(async () => {
    const d = await must(api.GET('/api/v1/decisions/{id}', { params: { path: { id: code.value.trim() } } }))
    await router.push({ name: 'decision', params: { id: d.id! } })
  })
}
// The URL has a stretch of time as 24h, so that it means the same when it is
// opened again, or the moment that somebody came with.
const spans = computed(() => {
  const all = [{ label: 'the last hour', since: '1h' }, { label: 'the last day', since: '24h' }, { label: 'the last week', since: '168h' }]
  const { since } = query.value
  return since === '' || all.some((s) => s.since === since) ? all : [...all, { label: `since ${since.slice(0, 16).replace('T', ' ')}`, since }]
})
function momentOf(since: string) {
  const hours = /^(\d+)h$/.exec(since)?.[1]
  return hours ? new Date(Date.now() - Number(hours) * 3600_000).toISOString().slice(0, 19) + 'Z' : since
}
const search = () => set({ person: form.person.trim(), device: form.device.trim(), resource: form.resource.trim(), outcome: form.outcome, gate: form.gate.trim(), since: form.since, cursor: '' })
const clear = () => set({ person: '', device: '', resource: '', outcome: '', gate: '', since: '', cursor: '' })
const { forward, back } = usePages(query, set, () => page.value?.next)
const open = (d: Answer) => router.push({ name: 'decision', params: { id: d.id! } })
</script>

<template>
  <header>
    <h1>Decisions</h1>
    <form class="code" @submit.prevent="find">
      <el-input v-model="code" name="code" placeholder="Code from a refusal, as K7M2-9XQD" aria-label="Code" clearable />
      <el-button native-type="submit" :loading="busy" :disabled="code.trim().length < 8">Find</el-button>
    </form>
  </header>
  <p v-if="unknown" class="soft" role="alert">{{ unknown.status === 404 ? 'No refusal has this code. Its letters are in two groups of four.' : unknown.detail }}</p>
  <FleetChart v-if="course.along.length > 2" kind="line" :series="course.series" :along="course.along" label="Decisions of the last week, by six hours" />
  <form class="search" @submit.prevent="search">
    <el-autocomplete v-model="form.person" name="person" :fetch-suggestions="people" :debounce="150" placeholder="Person" aria-label="Person" clearable @select="search" @clear="search"><template #default="{ item }">{{ item.value }} <span class="soft small">{{ item.note }}</span></template></el-autocomplete>
    <el-autocomplete v-model="form.device" name="device" :fetch-suggestions="devices" :debounce="150" placeholder="Device" aria-label="Device" clearable @select="search" @clear="search"><template #default="{ item }">{{ item.value }} <span class="soft small">{{ item.note }}</span></template></el-autocomplete>
    <el-input v-model="form.resource" name="resource" placeholder="Resource" aria-label="Resource" clearable @clear="search" />
    <el-select v-model="form.outcome" placeholder="Any outcome" aria-label="Outcome" clearable @change="search" @clear="search">
      <el-option value="allow" label="allow" /><el-option value="deny" label="deny" /><el-option value="step-up" label="step-up" />
    </el-select>
    <el-input v-model="form.gate" name="gate" placeholder="Gate" aria-label="Gate" clearable @clear="search" />
    <el-select v-model="form.since" placeholder="Any time" aria-label="Since" clearable @change="search" @clear="search"><el-option v-for="s in spans" :key="s.since" :value="s.since" :label="s.label" /></el-select>
    <el-button native-type="submit" type="primary">Search</el-button>
    <a :href="csv" download>Save as CSV</a>
  </form>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-else-if="!page && loading" :rows="8" animated />
  <el-table v-else-if="page && page.items.length > 0" :data="page.items" row-key="id" :class="{ stale: loading }" @row-click="open">
    <el-table-column label="Outcome" width="110"><template #default="{ row }"><OutcomeMark :outcome="row.outcome" /></template></el-table-column>
    <el-table-column label="When" width="112"><template #default="{ row }"><TimeText :time="row.at" /></template></el-table-column>
    <el-table-column label="Who" min-width="220" show-overflow-tooltip><template #default="{ row }"><PersonName :id="row.asked.subject.id" :device="row.asked.subject.type === 'device'" /></template></el-table-column>
    <el-table-column label="What" min-width="160"><template #default="{ row }">{{ row.asked.action.name }} <strong>{{ row.asked.resource.id }}</strong></template></el-table-column>
    <el-table-column label="Device" width="180">
      <template #default="{ row }">
        <template v-if="row.known_device"><router-link :to="{ name: 'device', params: { id: row.device } }" @click.stop>{{ row.device }}</router-link> <span class="soft">{{ row.level }}</span></template>
        <span v-else class="soft">unknown</span>
      </template>
    </el-table-column>
    <el-table-column label="Gates" width="110"><template #default="{ row }">{{ decisiveGates(row) }}</template></el-table-column>
    <el-table-column label="If shadows were enforced" width="120"><template #default="{ row }"><OutcomeMark v-if="row.shadow_outcome" :outcome="row.shadow_outcome" /></template></el-table-column>
    <el-table-column label="Decision" width="200"><template #default="{ row }"><router-link :to="{ name: 'decision', params: { id: row.id } }" @click.stop><code>{{ row.id }}</code></router-link></template></el-table-column>
  </el-table>
  <div v-else-if="page" class="empty">
    <h3>No decision is recorded that matches</h3>
    <p class="soft">Enforcers ask at <code>POST /access/v1/evaluation</code>. <el-button link type="primary" @click="clear">Show every decision</el-button></p>
  </div>
  <nav v-if="page && (page.next || query.cursor)" class="pages" aria-label="Pages of the list">
    <el-button :disabled="!query.cursor" @click="back">Newer</el-button>
    <el-button :disabled="!page.next" @click="forward">Older</el-button>
  </nav>
</template>

<style scoped>
header { display: flex; justify-content: space-between; align-items: baseline; gap: 24px; }
.code { display: flex; gap: 8px; width: 360px; }
.search { display: flex; gap: 10px; margin: 14px 0 10px; align-items: center; }
.search a { white-space: nowrap; }
.stale { opacity: 0.6; }
.empty { padding: 40px 0; }
.pages { margin-top: 16px; }
</style>
