<script setup lang="ts">
// The files that hold what old entries say, the making of one, and where people took them.
import { computed, onUnmounted, ref, watch } from 'vue'
import { api, must } from '../api/client'
import { bytes, count } from '../composables/format'
import { useAct } from '../composables/useAct'
import { useLoad } from '../composables/useLoad'
import { useSession } from '../stores/session'
import CopyText from './CopyText.vue'
import ProblemNote from './ProblemNote.vue'
import ReasonForm from './ReasonForm.vue'
import TimeText from './TimeText.vue'

const emit = defineEmits<{ changed: [] }>()
const session = useSession()
const { data, problem, again } = useLoad(
  () => must(api.GET('/api/v1/ledger/archives')),
  () => null,
  () => true,
)
const going = computed(() => {
  const p = data.value?.progress
  return p && !['done', 'failed'].includes(p.state) ? p : undefined
})
const steps: Record<string, string> = {
  writing: 'Writing the file',
  proving: 'Reading it again and proving it',
  removing: 'Letting the bodies go that it has',
}
let timer: ReturnType<typeof setTimeout> | undefined
watch(going, (now, was) => {
  if (was && !now) emit('changed')
})
watch(data, () => {
  clearTimeout(timer)
  if (going.value) timer = setTimeout(again, 500)
})
onUnmounted(() => clearTimeout(timer))

const days = 24 * 3600_000
const least = () => new Date(Date.now() - 90 * days)
const before = ref<string>(new Date(Date.now() - 366 * days).toISOString().slice(0, 10))
const making = ref(false)
const make = (reason: string) =>
  must(api.POST('/api/v1/ledger/archives', { body: { before: `${before.value}T00:00:00Z`, reason } }))
function begun() {
  making.value = false
  again()
}

const placing = ref('')
const place = ref('')
const { busy, problem: refused, act } = useAct()
async function noted() {
  const id = placing.value
  if (
    await act(() =>
      must(api.POST('/api/v1/ledger/archives/{id}/place', { params: { path: { id } }, body: { place: place.value } })),
    )
  ) {
    placing.value = ''
    again()
  }
}
</script>

<template>
  <section id="archives" class="archives">
    <h2>Archives</h2>
    <ProblemNote v-if="problem" :problem="problem" @again="again" />
    <template v-else-if="data">
      <p v-if="data.items.length === 0" class="soft small">
        Everything that entries say is in the service. What is older than 90 days can be moved into a signed file that
        proves itself; numbers, hashes and proofs stay here.
      </p>
      <div v-else class="scroll">
        <table class="ruled">
          <thead>
            <tr>
              <th>Archive</th>
              <th>Entries</th>
              <th>Before</th>
              <th class="number">Size</th>
              <th>Made</th>
              <th>Where it is</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="a in data.items" :key="a.id" :title="a.reason">
              <td>
                <CopyText :text="a.file"
                  ><code>{{ a.id }}</code></CopyText
                >
              </td>
              <td class="nowrap">
                <router-link :to="{ name: 'entry', params: { seq: a.from } }">{{ a.from }}</router-link>–<router-link
                  :to="{ name: 'entry', params: { seq: a.to } }"
                  >{{ a.to }}</router-link
                >
              </td>
              <td><TimeText :time="a.before" /></td>
              <td class="number nowrap">{{ bytes(a.bytes) }}</td>
              <td class="nowrap"><TimeText :time="a.at" /> by {{ a.by }}</td>
              <td>
                {{ a.place }}<template v-if="a.place && a.here">, and </template
                ><template v-if="a.here">in the service's folder</template>
                <span v-if="!a.place && !a.here" class="bad">not in the service's folder any more</span>
                <el-button
                  v-if="session.can('POST /api/v1/ledger/archives/{id}/place') && placing !== a.id"
                  link
                  size="small"
                  @click="((placing = a.id), (place = a.place ?? ''))"
                  >Note where…</el-button
                >
                <form v-if="placing === a.id" class="place" @submit.prevent="noted" @keydown.esc="placing = ''">
                  <el-input v-model="place" name="place" size="small" aria-label="Where the file is" />
                  <el-button size="small" native-type="submit" type="primary" :loading="busy">Save</el-button>
                </form>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
      <ProblemNote v-if="refused" :problem="refused" @again="noted" />
      <p v-if="going" aria-live="polite">
        {{ steps[going.state] }}: {{ going.done.toLocaleString('en') }} of {{ count(going.of, 'entry', 'entries') }}.
      </p>
      <p v-else-if="data.progress?.state === 'failed'" class="bad" role="alert">
        No archive was made: {{ data.progress.problem }}
      </p>
      <p v-else-if="data.progress?.held" class="soft small">Not all of them: {{ data.progress.held }}.</p>
      <template v-if="session.can('POST /api/v1/ledger/archives') && !going">
        <p v-if="!making" class="small"><el-button link @click="making = true">Archive old entries…</el-button></p>
        <template v-else>
          <p class="small">
            Of entries before
            <el-date-picker
              v-model="before"
              type="date"
              size="small"
              format="YYYY-MM-DD"
              value-format="YYYY-MM-DD"
              :clearable="false"
              :disabled-date="(d: Date) => d > least()"
              aria-label="Before which day"
            />, what they say leaves for a file in the folder <code>archives</code> of the records. A body cannot be
            brought back; read it with <code>ironledger ledger archive show</code>.
          </p>
          <ReasonForm label="Archive" :what="make" @done="begun" @cancel="making = false" />
        </template>
      </template>
    </template>
  </section>
</template>

<style scoped>
.scroll {
  overflow-x: auto;
}
.place {
  display: flex;
  gap: 8px;
}
</style>
