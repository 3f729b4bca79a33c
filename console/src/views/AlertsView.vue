<script setup lang="ts">
// What needs a person: each with its cause one click away, and who has seen it.
import { computed, ref } from 'vue'
import { api, must, type Alert } from '../api/client'
import ProblemNote from '../components/ProblemNote.vue'
import TimeText from '../components/TimeText.vue'
import { useAct } from '../composables/useAct'
import { ofKinds, useLoad } from '../composables/useLoad'
import { useSession } from '../stores/session'

const session = useSession()
const { data, problem, loading, again } = useLoad(
  () => must(api.GET('/api/v1/alerts')),
  () => true,
  ofKinds('alert.', 'enrolment.', 'device.', 'stream.', 'notice.', 'rulebook.', 'standing.'),
)
const may = computed(() => session.can('POST /api/v1/alerts/seen'))
const noting = ref('')
const note = ref('')
const { busy, problem: unsaid, act } = useAct()

async function seen(ids: string[]) {
  const ok = await act(() =>
    must(api.POST('/api/v1/alerts/seen', { body: { ids, ...(note.value.trim() && { note: note.value.trim() }) } })),
  )
  if (!ok) return
  noting.value = ''
  note.value = ''
  await again()
}
const fresh = computed(() => data.value?.items.filter((a) => !a.seen_by) ?? [])
const begin = (a: Alert) => {
  noting.value = a.id
  note.value = ''
}
</script>

<template>
  <header class="head">
    <h1>
      What needs you<span v-if="data?.items.length" class="soft small beside">{{ data.items.length }}</span>
    </h1>
    <el-button v-if="may && fresh.length > 1" link @click="seen(fresh.map((a) => a.id))">All seen</el-button>
  </header>
  <p class="soft">An alert goes away with its cause. Say that you have seen it, so that nobody else looks twice.</p>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <ProblemNote v-if="unsaid" :problem="unsaid" />
  <el-skeleton v-if="!data && loading" :rows="6" animated />
  <p v-else-if="data && data.items.length === 0" class="soft">Nothing. Everything that reports and listens does.</p>
  <table v-else-if="data" class="ruled">
    <thead>
      <tr>
        <th>What</th>
        <th>Since</th>
        <th>Seen by</th>
        <th />
      </tr>
    </thead>
    <tbody>
      <tr v-for="a in data.items" :key="a.id" :class="{ seen: a.seen_by }">
        <td>
          <router-link :to="a.link">{{ a.title }}</router-link>
          <div class="soft small">{{ a.kind }}</div>
        </td>
        <td class="nowrap"><TimeText v-if="a.since" :time="a.since" /></td>
        <td>
          <template v-if="a.seen_by"
            >{{ a.seen_by }} <TimeText v-if="a.seen_at" :time="a.seen_at" />
            <div v-if="a.note" class="soft small">{{ a.note }}</div>
          </template>
          <span v-else class="soft">nobody</span>
        </td>
        <td>
          <form v-if="noting === a.id" class="note" @submit.prevent="seen([a.id])" @keydown.esc="noting = ''">
            <el-input
              v-model="note"
              name="note"
              placeholder="What is done about it, if anything"
              aria-label="Note"
              autofocus
            />
            <el-button type="primary" native-type="submit" :loading="busy">Seen</el-button>
          </form>
          <el-button v-else-if="may && !a.seen_by" link type="primary" @click="begin(a)">Seen…</el-button>
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.head {
  display: flex;
  align-items: baseline;
  justify-content: space-between;
}
.seen a {
  color: var(--ink-soft);
}
.note {
  display: flex;
  gap: 8px;
}
</style>
