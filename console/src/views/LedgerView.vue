<script setup lang="ts">
import { onUnmounted, reactive, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, must, type Entry } from '../api/client'
import EntrySubject from '../components/EntrySubject.vue'
import LedgerArchives from '../components/LedgerArchives.vue'
import LedgerState from '../components/LedgerState.vue'
import PageTurns from '../components/PageTurns.vue'
import ProblemNote from '../components/ProblemNote.vue'
import TimeText from '../components/TimeText.vue'
import { useLoad } from '../composables/useLoad'
import { usePages } from '../composables/usePages'
import { useQuery } from '../composables/useQuery'

const router = useRouter()
const { query, set } = useQuery('kind', 'actor', 'about', 'device', 'person', 'since', 'cursor')
const form = reactive({ ...query.value })
watch(query, (q) => Object.assign(form, q))

const {
  data: page,
  problem,
  loading,
  again,
} = useLoad(
  () => must(api.GET('/api/v1/ledger/entries', { params: { query: { ...query.value, limit: 40 } } })),
  () => query.value,
  () => query.value.cursor === '',
)
const {
  data: state,
  problem: unknown,
  again: look,
} = useLoad(
  () => must(api.GET('/api/v1/ledger')),
  () => null,
  () => true,
)
let timer: ReturnType<typeof setTimeout> | undefined
watch(state, (s) => {
  clearTimeout(timer)
  if (s?.verification.state === 'running') timer = setTimeout(look, 500)
})
onUnmounted(() => clearTimeout(timer))

const spans = [
  { label: 'the last hour', hours: 1 },
  { label: 'the last day', hours: 24 },
  { label: 'the last week', hours: 168 },
]
const sinceOf = (hours: number) => new Date(Date.now() - hours * 3600_000).toISOString().slice(0, 19) + 'Z'
const search = () =>
  set({
    kind: form.kind,
    actor: form.actor.trim(),
    about: form.about.trim(),
    device: form.device.trim(),
    person: form.person.trim(),
    since: form.since,
    cursor: '',
  })
const clear = () => set({ kind: '', actor: '', about: '', device: '', person: '', since: '', cursor: '' })
const { forward, back } = usePages(query, set, (): string | undefined => page.value?.next)
const open = (e: Entry) => router.push({ name: 'entry', params: { seq: e.seq } })
</script>

<template>
  <h1>Ledger</h1>
  <ProblemNote v-if="unknown" :problem="unknown" @again="look" />
  <LedgerState v-else-if="state" :state="state" @changed="look" />
  <form class="search" @submit.prevent="search">
    <el-select
      v-model="form.kind"
      placeholder="Any kind"
      aria-label="Kind"
      clearable
      filterable
      @change="search"
      @clear="search"
      ><el-option v-for="k in state?.kinds" :key="k" :value="k" :label="k"
    /></el-select>
    <el-input v-model="form.actor" name="actor" placeholder="By" aria-label="By whom" clearable @clear="search" />
    <el-input
      v-model="form.about"
      name="about"
      placeholder="About"
      aria-label="About which id"
      clearable
      @clear="search"
    />
    <el-input v-model="form.device" name="device" placeholder="Device" aria-label="Device" clearable @clear="search" />
    <el-input v-model="form.person" name="person" placeholder="Person" aria-label="Person" clearable @clear="search" />
    <el-select v-model="form.since" placeholder="Any time" aria-label="Since" clearable @change="search" @clear="search"
      ><el-option v-for="s in spans" :key="s.hours" :value="sinceOf(s.hours)" :label="s.label"
    /></el-select>
    <el-button native-type="submit" type="primary">Search</el-button>
    <a href="/api/v1/ledger/export" download="ledger.ndjson">Save all</a>
  </form>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-else-if="!page && loading" :rows="8" animated />
  <el-table
    v-else-if="page && page.items.length > 0"
    :data="page.items"
    row-key="seq"
    :class="{ stale: loading }"
    @row-click="open"
  >
    <el-table-column label="Entry" width="84" align="right"
      ><template #default="{ row }">
        <router-link :to="{ name: 'entry', params: { seq: row.seq } }" @click.stop>{{ row.seq }}</router-link>
      </template></el-table-column
    >
    <el-table-column label="When" width="112"
      ><template #default="{ row }"><TimeText :time="row.at" /> </template
    ></el-table-column>
    <el-table-column label="Kind" width="184"
      ><template #default="{ row }"
        ><code>{{ row.kind }}</code>
      </template></el-table-column
    >
    <el-table-column label="By" width="130" show-overflow-tooltip
      ><template #default="{ row }">{{ row.actor }}</template>
    </el-table-column>
    <el-table-column label="About" width="214" show-overflow-tooltip
      ><template #default="{ row }"> <EntrySubject :kind="row.kind" :about="row.about" /></template
    ></el-table-column>
    <el-table-column label="What" min-width="300" show-overflow-tooltip
      ><template #default="{ row }">
        <span :class="{ soft: row.redacted || row.archive }">{{ row.gist }}</span></template
      ></el-table-column
    >
  </el-table>
  <div v-else-if="page" class="empty">
    <h3>No entry matches</h3>
    <p class="soft">
      Nothing that happened here is like this.
      <el-button link type="primary" @click="clear">Show every entry</el-button>
    </p>
  </div>
  <PageTurns
    v-if="page"
    :cursor="query.cursor"
    :next="page.next"
    before="Newer"
    after="Older"
    @back="back"
    @forward="forward"
  />
  <p v-if="page && !page.next && state?.archived_until" class="soft small">
    Up to entry {{ state.archived_until.toLocaleString('en') }} what entries say is archived: their numbers, kinds and
    subjects are listed, and a search by what they speak of does not find them.
  </p>
  <LedgerArchives v-if="state" @changed="(again(), look())" />
</template>

<style scoped>
.search {
  display: flex;
  gap: 10px;
  margin: 18px 0 10px;
  align-items: center;
}
.search a {
  white-space: nowrap;
}
.stale {
  opacity: 0.6;
}
.empty {
  padding: 40px 0;
}
</style>
