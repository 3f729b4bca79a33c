<script setup lang="ts">
// The roster: hardware registered in advance as our own.
import { ref } from 'vue'
import { api, must } from '../api/client'
import { count, num } from '../composables/format'
import { ofList } from '../composables/preview'
import { useBring } from '../composables/useBring'
import { ofKinds, useLoad } from '../composables/useLoad'
import { useTurns } from '../composables/useTurns'
import { useSession } from '../stores/session'
import PageTurns from './PageTurns.vue'
import ProblemNote from './ProblemNote.vue'
import ReasonForm from './ReasonForm.vue'
import TimeText from './TimeText.vue'

/** So many are shown at a time. */
const few = 10
const session = useSession()
const field = ref('')
const text = ref('')
const unseen = ref(false)
const { cursor, forward, back } = useTurns(
  () => [text.value, unseen.value],
  (): string | undefined => data.value?.next,
)
const list = (query: { q?: string; unseen?: boolean; cursor?: string; limit: number }) =>
  must(api.GET('/api/v1/roster', { params: { query } }))
const touched = ofKinds('device.', 'roster.')
const { data, problem, again } = useLoad(
  () => list({ q: text.value, unseen: unseen.value, cursor: cursor.value, limit: few }),
  () => [text.value, unseen.value, cursor.value],
  touched,
)
/** How many there are, and of how many no device was seen, whatever is searched for. */
const { data: counts, again: recount } = useLoad(
  async () => {
    const [all, missing] = await Promise.all([list({ limit: 1 }), list({ limit: 1, unseen: true })])
    return { all: all.total ?? 0, unseen: missing.total ?? 0 }
  },
  () => null,
  touched,
)
const anew = () => Promise.all([again(), recount()])
const removing = ref('')
const remove = (id: string) => (reason: string, anyway: boolean) =>
  must(
    api.POST('/api/v1/roster/{id}/remove', {
      params: { path: { id } },
      body: { reason, accept_impact: anyway ? reason : undefined },
    }),
  )
const removal = (id: string) => async () =>
  ofList((await must(api.POST('/api/v1/roster/{id}/remove', { params: { path: { id } }, body: { dry_run: true } })))!)

function done() {
  removing.value = ''
  return anew()
}

const {
  busy,
  problem: refused,
  said,
  bring,
} = useBring(
  (text) =>
    must(
      api.POST('/api/v1/roster', {
        body: text,
        bodySerializer: (b: string) => b,
        headers: { 'Content-Type': 'text/csv' },
      }),
    ),
  () => anew(),
)
</script>

<template>
  <h2>Roster</h2>
  <p class="soft">
    Hardware registered in advance as our own<template v-if="counts"
      >: {{ count(counts.all, 'entry', 'entries') }}, {{ num(counts.unseen) }} not seen yet</template
    >.
    <label v-if="session.can('POST /api/v1/roster')" class="bring">
      <input type="file" accept=".csv,text/csv" :disabled="busy" @change="bring" />Bring a CSV
      (serial,hardware_id,note)</label
    >
  </p>
  <ProblemNote v-if="refused" :problem="refused" />
  <p v-else-if="said">{{ said }}</p>
  <form v-if="counts && counts.all > few" class="search" role="search" @submit.prevent="text = field.trim()">
    <el-input
      v-model="field"
      name="roster"
      placeholder="Serial, hardware id or note"
      aria-label="Serial, hardware id or note"
      clearable
      @clear="text = ''"
    />
    <el-button native-type="submit" type="primary">Search</el-button>
    <el-button link type="primary" @click="unseen = !unseen">{{
      unseen ? 'All of them' : 'Only those not seen yet'
    }}</el-button>
  </form>
  <table v-if="data && data.items.length > 0" class="ruled">
    <thead>
      <tr>
        <th>Serial</th>
        <th>Hardware id</th>
        <th>Note</th>
        <th>Device</th>
        <th>Since</th>
        <th />
      </tr>
    </thead>
    <tbody>
      <template v-for="e in data.items" :key="e.id">
        <tr>
          <td>
            <code>{{ e.serial }}</code>
          </td>
          <td>
            <code>{{ e.hardware_id }}</code>
          </td>
          <td>{{ e.note }}</td>
          <td>
            <router-link v-if="e.device" :to="{ name: 'device', params: { id: e.device } }">{{ e.device }}</router-link>
            <span v-else class="soft">not seen yet</span>
          </td>
          <td>
            <TimeText :time="e.at" /> <span class="soft small">{{ e.by }}</span>
          </td>
          <td class="right">
            <el-button v-if="session.can('POST /api/v1/roster/{id}/remove')" link size="small" @click="removing = e.id"
              >Remove</el-button
            >
          </td>
        </tr>
        <tr v-if="removing === e.id">
          <td :colspan="6">
            <ReasonForm
              label="Remove"
              :what="remove(e.id)"
              :preview="removal(e.id)"
              @done="done"
              @cancel="removing = ''"
            />
          </td>
        </tr>
      </template>
    </tbody>
  </table>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <p v-if="counts && counts.all > 0 && data?.items.length === 0" class="soft">None of them is like that.</p>
  <PageTurns :cursor="cursor" :next="data?.next" @back="back" @forward="forward" />
</template>

<style scoped>
.right {
  text-align: right;
}
.search {
  display: flex;
  gap: 10px;
  margin: 0 0 10px;
  max-width: 620px;
}
.bring {
  text-decoration: underline;
  text-decoration-color: var(--metal);
  text-underline-offset: 3px;
  cursor: pointer;
  margin-left: 8px;
}
.bring input {
  position: absolute;
  opacity: 0;
  width: 1px;
}
.bring:focus-within {
  outline: 2px solid var(--metal);
}
</style>
