<script setup lang="ts">
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, must, type Answer, type Outcome } from '../api/client'
import ExportLink from '../components/ExportLink.vue'
import ListPage from '../components/ListPage.vue'
import OutcomeMark from '../components/OutcomeMark.vue'
import PersonName from '../components/PersonName.vue'
import TimeText from '../components/TimeText.vue'
import { devices, people } from '../composables/asking'
import { useAct } from '../composables/useAct'
import { ofKinds, useLoad } from '../composables/useLoad'
import { csvOf, useSearch } from '../composables/useSearch'

const FleetChart = defineAsyncComponent(() => import('../components/FleetChart.vue'))
const router = useRouter()
const { query, fields, search, clear, forward, back } = useSearch(
  ['person', 'device', 'resource', 'outcome', 'gate', 'since', 'until'],
  (): string | undefined => page.value?.next,
)

const {
  data: page,
  problem,
  loading,
  again,
} = useLoad(
  () => {
    const { outcome, since, ...rest } = query.value
    return must(
      api.GET('/api/v1/decisions', {
        params: {
          query: { ...rest, since: momentOf(since), ...(outcome && { outcome: outcome as Outcome }), limit: 25 },
        },
      }),
    )
  },
  () => query.value,
  (changes) => query.value.cursor === '' && ofKinds('decision.')(changes),
)

const { data: counts } = useLoad(
  () => must(api.GET('/api/v1/decision-counts', { params: { query: { days: 7 } } })),
  () => null,
)
const course = computed(() => {
  const items = counts.value?.items ?? []
  const along = [...new Set(items.map((c) => c.at))].sort()
  const sum = (at: string, outcome: Outcome) =>
    items.filter((c) => c.at === at && c.outcome === outcome).reduce((n, c) => n + c.count, 0)
  // The last stretch lasts until now.
  const series = (['deny', 'step-up', 'allow'] as const).map((name) => ({
    name,
    values: [...along, along.at(-1) ?? ''].map((at) => sum(at, name)),
  }))
  return { along: [...along, new Date().toISOString()], series }
})
const csv = computed(() => csvOf('/api/v1/decisions', { ...query.value, since: momentOf(query.value.since) }))
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
  const all = [
    { label: 'the last hour', since: '1h' },
    { label: 'the last day', since: '24h' },
    { label: 'the last week', since: '168h' },
  ]
  const { since, until } = query.value
  const short = (time: string) => time.slice(0, 16).replace('T', ' ')
  return since === '' || all.some((s) => s.since === since)
    ? all
    : [...all, { label: `since ${short(since)}${until && `, before ${short(until)}`}`, since }]
})
function momentOf(since: string) {
  const hours = /^(\d+)h$/.exec(since)?.[1]
  return hours ? new Date(Date.now() - Number(hours) * 3600_000).toISOString().slice(0, 19) + 'Z' : since
}
const open = (d: Answer) => router.push({ name: 'decision', params: { id: d.id! } })
</script>

<template>
  <ListPage
    title="Decisions"
    :page="page"
    :problem="problem"
    :loading="loading"
    :cursor="query.cursor"
    before="Newer"
    after="Older"
    @search="search"
    @again="again"
    @back="back"
    @forward="forward"
  >
    <template #head>
      <form class="code" @submit.prevent="find">
        <el-input
          v-model="code"
          name="code"
          placeholder="Code from a refusal, as K7M2-9XQD"
          aria-label="Code"
          clearable
        />
        <el-button native-type="submit" :loading="busy" :disabled="code.trim().length < 8">Find</el-button>
      </form>
    </template>
    <template #intro>
      <p v-if="unknown" class="soft" role="alert">
        {{
          unknown.status === 404 ? 'No refusal has this code. Its letters are in two groups of four.' : unknown.detail
        }}
      </p>
      <FleetChart
        v-if="course.along.length > 2"
        kind="line"
        :series="course.series"
        :along="course.along"
        label="Decisions of the last week, by six hours"
      />
    </template>
    <template #search>
      <el-autocomplete
        v-model="fields.person"
        name="person"
        :fetch-suggestions="people"
        :debounce="150"
        placeholder="Person"
        aria-label="Person"
        clearable
        @select="search"
        @clear="search"
        ><template #default="{ item }"
          >{{ item.value }} <span class="soft small">{{ item.note }}</span></template
        >
      </el-autocomplete>
      <el-autocomplete
        v-model="fields.device"
        name="device"
        :fetch-suggestions="devices"
        :debounce="150"
        placeholder="Device"
        aria-label="Device"
        clearable
        @select="search"
        @clear="search"
        ><template #default="{ item }"
          >{{ item.value }} <span class="soft small">{{ item.note }}</span></template
        >
      </el-autocomplete>
      <el-input
        v-model="fields.resource"
        name="resource"
        placeholder="Resource"
        aria-label="Resource"
        clearable
        @clear="search"
      />
      <el-select
        v-model="fields.outcome"
        placeholder="Any outcome"
        aria-label="Outcome"
        clearable
        @change="search"
        @clear="search"
      >
        <el-option value="allow" label="allow" /><el-option value="deny" label="deny" />
        <el-option value="step-up" label="step-up" />
      </el-select>
      <el-input v-model="fields.gate" name="gate" placeholder="Gate" aria-label="Gate" clearable @clear="search" />
      <el-select
        v-model="fields.since"
        placeholder="Any time"
        aria-label="Since"
        clearable
        @change="search"
        @clear="search"
        ><el-option v-for="s in spans" :key="s.since" :value="s.since" :label="s.label"
      /></el-select>
    </template>
    <template #tools>
      <ExportLink :href="csv" name="decisions.csv" />
    </template>
    <template #default="{ items }">
      <el-table :data="items" row-key="id" @row-click="open">
        <el-table-column label="Outcome" width="110"
          ><template #default="{ row }">
            <OutcomeMark v-if="row.outcome" :outcome="row.outcome" /><span v-else class="soft">{{
              row.archive ? 'archived' : 'redacted'
            }}</span></template
          ></el-table-column
        >
        <el-table-column label="When" width="112"
          ><template #default="{ row }"><TimeText :time="row.at" /> </template
        ></el-table-column>
        <el-table-column label="Who" min-width="220" show-overflow-tooltip
          ><template #default="{ row }">
            <PersonName v-if="row.outcome" :id="row.asked.subject.id" :device="row.asked.subject.type === 'device'"
          /></template>
        </el-table-column>
        <el-table-column label="What" min-width="160"
          ><template #default="{ row }"
            >{{ row.asked.action.name }} <strong>{{ row.asked.resource.id }}</strong></template
          ></el-table-column
        >
        <el-table-column label="Device" width="180">
          <template #default="{ row }">
            <template v-if="row.known_device">
              <router-link :to="{ name: 'device', params: { id: row.device } }" @click.stop>{{
                row.device
              }}</router-link>
              <span class="soft beside">{{ row.level }}</span>
            </template>
            <span v-else class="soft">unknown</span>
          </template>
        </el-table-column>
        <el-table-column label="Gates" width="110"
          ><template #default="{ row }">{{ row.decisive.join(', ') }}</template>
        </el-table-column>
        <el-table-column label="If shadows were enforced" width="120"
          ><template #default="{ row }">
            <OutcomeMark v-if="row.shadow_outcome" :outcome="row.shadow_outcome" /></template
        ></el-table-column>
        <el-table-column label="Decision" width="200"
          ><template #default="{ row }">
            <router-link :to="{ name: 'decision', params: { id: row.id } }" @click.stop
              ><code>{{ row.id }}</code>
            </router-link></template
          ></el-table-column
        >
      </el-table>
    </template>
    <template #empty>
      <h3>No decision is recorded that matches</h3>
      <p class="soft">
        Enforcers ask at <code>POST /access/v1/evaluation</code>.
        <el-button link type="primary" @click="clear">Show every decision</el-button>
      </p>
    </template>
  </ListPage>
</template>

<style scoped>
.code {
  display: flex;
  gap: 8px;
  width: 360px;
}
</style>
