<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, must, type DeviceSummary, type Search } from '../api/client'
import ExportLink from '../components/ExportLink.vue'
import LevelMark from '../components/LevelMark.vue'
import ListPage from '../components/ListPage.vue'
import ProblemNote from '../components/ProblemNote.vue'
import TimeText from '../components/TimeText.vue'
import { count, num } from '../composables/format'
import { useAct } from '../composables/useAct'
import { ofFleet, useLoad } from '../composables/useLoad'
import { csvOf, useSearch } from '../composables/useSearch'
import { useSession } from '../stores/session'

const router = useRouter()
const session = useSession()
const { query, set, fields, search, forward, back } = useSearch(
  ['where', 'q', 'sort', 'columns', 'rule', 'verdict', 'retired', 'undecided'],
  (): string | undefined => page.value?.next,
)

const {
  data: page,
  problem,
  loading,
  again,
} = useLoad(
  () => {
    const { undecided, ...rest } = query.value
    return must(
      api.GET('/api/v1/devices', {
        params: { query: { ...rest, ...(undecided && { undecided: true }), limit: 25 } },
      }),
    )
  },
  () => query.value,
  ofFleet,
)
const { data: vocabulary } = useLoad(
  () => must(api.GET('/api/v1/vocabulary')),
  () => null,
)

const levels = computed(() => {
  const ladder = vocabulary.value?.ladder ?? []
  return ladder
    .map((level, rank) => ({ level, rank, top: ladder.length - 1, count: page.value?.levels[level] ?? 0 }))
    .reverse()
})
const clear = () =>
  set({ where: '', q: '', columns: '', rule: '', verdict: '', retired: '', undecided: '', cursor: '' })
/** What a rule says, in words that go before its name. */
const says: Record<string, string> = {
  pass: 'pass',
  fail: 'fail',
  unknown: 'lack what is asked by',
  grace: 'are in grace of',
  waived: 'are excepted from',
  none: 'are not meant by',
}
const narrowed = computed(() => query.value.where !== '' || query.value.q !== '' || query.value.rule !== '')
const ruleOf = (key: string) => {
  const [baseline, rule] = key.split('/')
  return { name: 'rule', params: { baseline, rule } }
}

function sorted({ prop, order }: { prop: string | null; order: string | null }) {
  return set({ sort: prop && order ? (order === 'descending' ? '-' : '') + prop : '', cursor: '' })
}

const sort = computed(() => {
  const s = query.value.sort
  return {
    prop: s.replace(/^-/, '') || 'id',
    order: s.startsWith('-') ? ('descending' as const) : ('ascending' as const),
  }
})

const columns = computed(() => query.value.columns.split(',').filter(Boolean))
const attributes = computed(() =>
  (vocabulary.value?.names ?? []).filter((n) => !['level', 'id', 'seen_at', 'since'].includes(n.name)),
)
const titleOf = (name: string) => attributes.value.find((a) => a.name === name)?.title ?? name
const csv = computed(() => csvOf('/api/v1/devices', query.value))

const { data: kept, again: reload } = useLoad(
  () => must(api.GET('/api/v1/searches')),
  () => null,
)
const naming = ref<string | null>(null)
const { busy, problem: unkept, act } = useAct()
const filtered = computed(() => query.value.where !== '' || query.value.q !== '' || query.value.columns !== '')
const isKept = (s: Search) =>
  (s.where ?? '') === query.value.where &&
  (s.q ?? '') === query.value.q &&
  (s.columns ?? []).join(',') === query.value.columns
const kind = computed(() => kept.value?.items.find(isKept))

async function keep() {
  const { where, q, sort } = query.value
  const done = await act(() =>
    must(api.POST('/api/v1/searches', { body: { name: naming.value ?? '', where, q, sort, columns: columns.value } })),
  )
  if (done) {
    naming.value = null
    await reload()
  }
}

async function forget(name: string) {
  await act(() => must(api.DELETE('/api/v1/searches/{name}', { params: { path: { name } } })))
  await reload()
}

const open = (d: DeviceSummary) => router.push({ name: 'device', params: { id: d.id } })
const system = (d: DeviceSummary) => [d.platform, d.os_version].filter(Boolean).join(' ')
</script>

<template>
  <ListPage
    title="Devices"
    :page="page"
    :problem="problem"
    :loading="loading"
    :cursor="query.cursor"
    @search="search"
    @again="again"
    @back="back"
    @forward="forward"
  >
    <template #search>
      <el-input
        v-model="fields.where"
        class="where"
        aria-label="Condition"
        name="where"
        placeholder="A condition, as in: level < sound and platform == windows"
        clearable
        @clear="search"
      >
        <template #prefix><span class="soft small">where</span></template>
      </el-input>
      <el-input
        v-model="fields.q"
        class="text"
        aria-label="Text"
        name="q"
        placeholder="Name, serial, owner"
        clearable
        @clear="search"
      />
    </template>
    <template #under>
      <p v-if="kept && (kept.items.length > 0 || filtered)" class="kept small">
        <span v-for="s in kept.items" :key="s.name">
          <router-link
            :to="{
              query: {
                ...(s.where && { where: s.where }),
                ...(s.q && { q: s.q }),
                ...(s.sort && { sort: s.sort }),
                ...(s.columns?.length && { columns: s.columns.join(',') }),
              },
            }"
            :class="{ on: isKept(s) }"
            >{{ s.name }}</router-link
          >
          <el-button v-if="isKept(s) && session.can('POST /api/v1/searches')" link size="small" @click="forget(s.name)"
            >forget</el-button
          >
        </span>
        <template v-if="filtered && !kind && session.can('POST /api/v1/searches')">
          <el-button v-if="naming === null" link type="primary" size="small" @click="naming = ''"
            >Keep this search…</el-button
          >
          <form v-else @submit.prevent="keep" @keydown.esc="naming = null">
            <el-input
              v-model="naming"
              size="small"
              name="search-name"
              placeholder="A name for this search"
              aria-label="Name of the search"
              autofocus
            /><el-button size="small" native-type="submit" :loading="busy" :disabled="naming.trim() === ''"
              >Keep</el-button
            >
          </form>
        </template>
      </p>
      <ProblemNote v-if="unkept" :problem="unkept" />
    </template>
    <template #filters="{ page: shown }">
      <p v-if="query.rule" class="small">
        Devices that {{ says[query.verdict] ?? 'are meant by' }}
        <router-link :to="ruleOf(query.rule)"
          ><code>{{ query.rule }}</code></router-link
        >. <el-button link size="small" @click="set({ rule: '', verdict: '', cursor: '' })">Whatever it says</el-button>
      </p>
      <p v-if="query.undecided" class="small">
        Devices of which the condition cannot be told, since a value is not known.
        <el-button link size="small" @click="set({ undecided: '', cursor: '' })">Those of which it is true</el-button>
      </p>
      <p v-if="shown.undecided || shown.retired" class="small soft">
        Left out:
        <template v-if="shown.undecided"
          ><el-button link size="small" @click="set({ undecided: 'true', cursor: '' })">{{
            count(shown.undecided, 'device')
          }}</el-button>
          of which it cannot be told, since a value is not known<template v-if="shown.retired">; </template></template
        >
        <template v-if="shown.retired"
          ><el-button link size="small" @click="set({ retired: 'only', cursor: '' })">{{
            count(shown.retired, 'device')
          }}</el-button>
          out of service</template
        >.
      </p>
      <p v-if="query.retired" class="small">
        {{ query.retired === 'only' ? 'Devices out of service, and no others.' : 'Devices out of service too.' }}
        <el-button link size="small" @click="set({ retired: '', cursor: '' })">Those in service</el-button>
      </p>
      <ul class="levels" aria-label="Devices at each level">
        <li v-for="l in levels" :key="l.level">
          <router-link :to="{ query: { where: `level == ${l.level}` } }"
            ><LevelMark v-bind="l" /> <strong>{{ num(l.count) }}</strong>
          </router-link>
        </li>
        <li class="soft">{{ num(shown.total) }} in all</li>
        <li v-if="narrowed || query.retired"><el-button link @click="clear">Show every device</el-button></li>
        <li class="tools">
          <el-select
            :model-value="columns"
            multiple
            collapse-tags
            filterable
            size="small"
            placeholder="More columns"
            aria-label="More columns"
            class="columns"
            @change="set({ columns: ($event as string[]).join(',') })"
            ><el-option v-for="a in attributes" :key="a.name" :value="a.name" :label="a.title"
          /></el-select>
          <ExportLink :href="csv" name="devices.csv">Export as CSV</ExportLink>
        </li>
      </ul>
    </template>
    <template #default="{ items }">
      <el-table :data="items" :default-sort="sort" row-key="id" @sort-change="sorted" @row-click="open">
        <el-table-column prop="level" label="Level" sortable="custom" width="132">
          <template #default="{ row }"><LevelMark :level="row.level" :rank="row.rank" :top="row.top" /></template>
        </el-table-column>
        <el-table-column prop="id" label="Device" sortable="custom" width="118">
          <template #default="{ row }">
            <router-link :to="{ name: 'device', params: { id: row.id } }" @click.stop>{{ row.id }}</router-link>
          </template>
        </el-table-column>
        <el-table-column prop="name" label="Name" sortable="custom" min-width="150" />
        <el-table-column prop="platform" label="System" sortable="custom" min-width="180" :formatter="system" />
        <el-table-column prop="owner" label="Owner" sortable="custom" min-width="210" show-overflow-tooltip />
        <el-table-column label="Held by" min-width="210">
          <template #default="{ row }">
            <span v-if="row.retired" class="soft">retired: {{ row.retired }}</span>
            <span v-else-if="!row.covered" class="soft">no baseline applies</span>
            <template v-else
              ><span :title="row.binding.join(', ')">{{ row.binding[0] }}</span>
              <span v-if="row.binding.length > 1" class="soft"> +{{ row.binding.length - 1 }}</span></template
            >
          </template>
        </el-table-column>
        <el-table-column v-for="c in columns" :key="c" :label="titleOf(c)" min-width="130" show-overflow-tooltip
          ><template #default="{ row }">{{ row.values?.[c] }}</template></el-table-column
        >
        <el-table-column prop="seen_at" label="Seen" sortable="custom" width="112">
          <template #default="{ row }"><TimeText :time="row.seen_at" /></template>
        </el-table-column>
      </el-table>
    </template>
    <template #empty>
      <h3>No device matches</h3>
      <p v-if="narrowed || query.retired" class="soft">
        Try a wider condition, or <el-button link type="primary" @click="clear">show every device</el-button>.
      </p>
      <p v-else class="soft">Bring evidence with <code>ironledger device import FILE</code>.</p>
    </template>
  </ListPage>
</template>

<style scoped>
.where {
  flex: 3;
  font-family: var(--mono);
}
.text {
  flex: 1;
}
.levels {
  display: flex;
  flex-wrap: wrap;
  gap: 24px;
  list-style: none;
  padding: 8px 0;
  margin: 0 0 6px;
  align-items: center;
}
.levels a {
  display: inline-flex;
  gap: 8px;
  align-items: center;
  text-decoration: none;
}
.kept {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 20px;
  align-items: center;
  margin: 0;
}
.kept .on {
  font-weight: 600;
  border-bottom: 2px solid var(--metal);
  text-decoration: none;
}
.kept form {
  display: flex;
  gap: 6px;
}
.tools {
  margin-left: auto;
  display: flex;
  gap: 18px;
  align-items: center;
}
.columns {
  width: 210px;
}
.tools a {
  text-decoration: underline;
}
@media (max-width: 820px) {
  .levels {
    gap: 6px 16px;
  }
  .where {
    flex-basis: 100%;
  }
}
</style>
