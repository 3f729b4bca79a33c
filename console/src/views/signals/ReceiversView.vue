<script setup lang="ts">
// Who hears of changes of standing: each stream with how far it is and what went
// wrong, and a way to try it.
import { computed, reactive, ref } from 'vue'
import { api, must, type Stream, type StreamTest } from '../../api/client'
import CopyText from '../../components/CopyText.vue'
import DeadLetters from '../../components/DeadLetters.vue'
import ProblemNote from '../../components/ProblemNote.vue'
import ReasonForm from '../../components/ReasonForm.vue'
import TimeText from '../../components/TimeText.vue'
import { useAct } from '../../composables/useAct'
import { ofKinds, useLoad } from '../../composables/useLoad'
import { useSession } from '../../stores/session'

const session = useSession()
const { data, problem, loading, again } = useLoad(
  () => must(api.GET('/api/v1/streams')),
  () => true,
  ofKinds('stream.', 'standing.', 'session.', 'rulebook.'),
)
const may = computed(() => session.can('POST /api/v1/streams'))

/** The act that a reason is asked for, of one stream. */
type Act = 'pause' | 'resume' | 'rotate' | 'remove'
const asking = ref<{ id: string; act: Act } | null>(null)
const labelOf = (act: Act) =>
  ({ pause: 'Pause', resume: 'Go on', rotate: 'Make another secret', remove: 'Remove' })[act]
const doing = (s: Stream, act: Act) => async (reason: string) => {
  const params = { path: { id: s.id } }
  if (act === 'rotate') {
    shown.value = await must(api.POST('/api/v1/streams/{id}/secret', { params, body: { reason } }))
    return
  }
  if (act === 'remove') return must(api.POST('/api/v1/streams/{id}/remove', { params, body: { reason } }))
  const status = act === 'pause' ? ('paused' as const) : ('enabled' as const)
  return must(api.POST('/api/v1/streams/{id}/status', { params, body: { status, reason } }))
}
/** The stream whose new secret is shown, and the one whose dead letters are. */
const shown = ref<Stream | null>(null)
const letters = ref('')
function done() {
  asking.value = null
  return again()
}

const tried = ref<Record<string, StreamTest | 'trying'>>({})
const { problem: untried, act: tryOut } = useAct()
async function test(s: Stream) {
  tried.value[s.id] = 'trying'
  const ok = await tryOut(async () => {
    tried.value[s.id] = await must(api.POST('/api/v1/streams/{id}/test', { params: { path: { id: s.id } } }))
  })
  if (!ok) delete tried.value[s.id]
  await again()
}
const result = (t: StreamTest | 'trying') => {
  if (t === 'trying') return 'A verification event is on its way…'
  return t.acknowledged ? `Acknowledged after ${t.millis ?? 0} ms.` : `Not acknowledged: ${t.failure}.`
}

const creating = ref(false)
const draft = reactive({ receiver: '', endpoint: '', authorization: '', description: '' })
const { busy, problem: uncreated, act: tryCreate } = useAct()
async function create() {
  const body = {
    receiver: draft.receiver.trim(),
    ...(draft.endpoint.trim() && { endpoint: draft.endpoint.trim() }),
    ...(draft.authorization && { authorization: draft.authorization }),
    ...(draft.description.trim() && { description: draft.description.trim() }),
  }
  const ok = await tryCreate(async () => {
    const made = await must(api.POST('/api/v1/streams', { body }))
    shown.value = made.secret ? made : null
  })
  if (!ok) return
  creating.value = false
  Object.assign(draft, { receiver: '', endpoint: '', authorization: '', description: '' })
  await again()
}
</script>

<template>
  <p class="soft">
    A stream tells a receiver of changes of standing as they happen: an identity provider, a gateway, a partner. What it
    has not acknowledged is told again, whatever went down. Who may have one, what it is told and in which form, Shared
    Signals or a web hook, the rulebook says under <code>signals</code>.
  </p>
  <p v-if="may" class="create-link">
    <el-button link type="primary" @click="creating = !creating">Create a stream…</el-button>
  </p>
  <div v-if="shown?.secret" class="secret" role="status">
    <p>
      What {{ shown.receiver }} checks its events with, shown this once
      <template v-if="shown.secret_before_until"
        >; the secret before signs too until {{ shown.secret_before_until.slice(0, 16).replace('T', ' ') }}</template
      >:
    </p>
    <p>
      <CopyText :text="shown.secret"
        ><code>{{ shown.secret }}</code></CopyText
      >
      <el-button link @click="shown = null">I have it</el-button>
    </p>
  </div>
  <form v-if="creating" class="create" @submit.prevent="create" @keydown.esc="creating = false">
    <label
      >Receiver <el-input v-model="draft.receiver" name="receiver" placeholder="as in the rulebook" autofocus
    /></label>
    <label
      >Sent to
      <el-input v-model="draft.endpoint" name="endpoint" placeholder="https://… ; empty to have events fetched"
    /></label>
    <label
      >Authorization
      <el-input
        v-model="draft.authorization"
        name="authorization"
        type="password"
        autocomplete="off"
        placeholder="Bearer … ; sent along, never shown again"
    /></label>
    <label>What for <el-input v-model="draft.description" name="description" /></label>
    <p>
      <el-button native-type="submit" type="primary" :loading="busy" :disabled="!draft.receiver.trim()"
        >Create</el-button
      >
      <el-button link @click="creating = false">Cancel</el-button>
    </p>
    <ProblemNote v-if="uncreated" :problem="uncreated" />
  </form>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <ProblemNote v-if="untried" :problem="untried" />
  <el-skeleton v-if="!data && loading" :rows="6" animated />
  <p v-else-if="data && data.items.length === 0" class="soft">
    Nobody hears of anything yet. Name a receiver in the rulebook, give it a token of the role receiver, and let it
    create its stream, or create one here.
  </p>
  <table v-else-if="data" class="ruled">
    <thead>
      <tr>
        <th>Receiver</th>
        <th>Told</th>
        <th>Stands</th>
        <th class="number">Waiting</th>
        <th class="number">Behind</th>
        <th class="number">Acknowledged</th>
        <th class="number">Given up</th>
        <th />
      </tr>
    </thead>
    <tbody>
      <template v-for="s in data.items" :key="s.id">
        <tr :class="{ trouble: s.failure }">
          <td>
            <strong>{{ s.receiver }}</strong>
            <div class="soft small">{{ s.description }}</div>
            <div class="soft small">
              <CopyText :text="s.id"
                ><code>{{ s.id }}</code></CopyText
              >
            </div>
          </td>
          <td>
            {{ s.events.join(', ') || 'nothing' }}
            <div v-if="s.when" class="small">
              when <code class="beside">{{ s.when }}</code>
            </div>
            <div class="soft small">
              {{ s.form === 'cloudevents' ? `CloudEvents${s.binary ? ' (binary)' : ''} ` : ''
              }}{{ s.endpoint ? `sent to ${s.endpoint}` : 'fetched' }}; devices by {{ s.device_form || 'id'
              }}{{ s.person_form && s.person_form !== 'none' ? `, people by ${s.person_form}` : '' }}
            </div>
            <div v-if="s.chosen || s.subjects.length" class="soft small">
              {{ s.chosen ? 'only' : 'all but' }} {{ s.subjects.length }} subjects
            </div>
          </td>
          <td>
            <strong>{{ s.status }}</strong>
            <div v-if="s.reason" class="soft small">{{ s.by }}: {{ s.reason }}</div>
          </td>
          <td class="number">
            {{ s.waiting }}
            <div v-if="s.oldest_at" class="soft small"><TimeText :time="s.oldest_at" /></div>
          </td>
          <td class="number">{{ s.behind }}</td>
          <td class="number">
            {{ s.delivered }}
            <div v-if="s.last_at" class="soft small"><TimeText :time="s.last_at" /></div>
          </td>
          <td class="number">
            <el-button
              v-if="s.letters || letters === s.id"
              link
              type="primary"
              :aria-expanded="letters === s.id"
              @click="letters = letters === s.id ? '' : s.id"
              >{{ s.letters }}</el-button
            >
            <template v-else>0</template>
          </td>
          <td class="right">
            <template v-if="may">
              <el-button v-if="s.status === 'enabled'" link type="primary" @click="test(s)">Test</el-button>
              <el-button v-if="s.status === 'enabled'" link @click="asking = { id: s.id, act: 'pause' }"
                >Pause…</el-button
              >
              <el-button v-else link type="primary" @click="asking = { id: s.id, act: 'resume' }">Go on…</el-button>
              <el-button v-if="s.form === 'cloudevents'" link @click="asking = { id: s.id, act: 'rotate' }"
                >Secret…</el-button
              >
              <el-button link @click="asking = { id: s.id, act: 'remove' }">Remove…</el-button>
            </template>
          </td>
        </tr>
        <tr v-if="s.failure || tried[s.id]" class="under">
          <td :colspan="8">
            <div v-if="tried[s.id]" role="status">{{ result(tried[s.id]!) }}</div>
            <div v-if="s.failure" class="failure">
              {{ s.failure }} <TimeText v-if="s.failed_at" :time="s.failed_at" />
            </div>
          </td>
        </tr>
        <tr v-if="letters === s.id" class="under">
          <td :colspan="8"><DeadLetters :stream="s.id" :may="may" @changed="again" /></td>
        </tr>
        <tr v-if="asking?.id === s.id" class="under">
          <td :colspan="8">
            <ReasonForm
              :label="labelOf(asking.act)"
              :what="doing(s, asking.act)"
              @done="done"
              @cancel="asking = null"
            />
          </td>
        </tr>
      </template>
    </tbody>
  </table>
</template>

<style scoped>
.create-link {
  margin: 0 0 8px;
}
.create {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 10px 24px;
  margin: 8px 0 20px;
  max-width: 860px;
}
.create label {
  display: grid;
  gap: 4px;
}
.number {
  text-align: right;
  font-variant-numeric: tabular-nums;
}
.right {
  text-align: right;
  white-space: nowrap;
}
.trouble > td,
.ruled tr:has(+ .under) > td {
  border-bottom: none;
}
.secret {
  border: 1px solid var(--metal);
  padding: 8px 16px;
  margin: 0 0 16px;
  max-width: 860px;
}
.failure {
  color: var(--metal);
}
@media (max-width: 820px) {
  .create {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
