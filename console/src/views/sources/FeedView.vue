<script setup lang="ts">
// A feed: where it is, how its runs went, what was not taken and why, and what can be done about it.
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, must } from '../../api/client'
import CopyText from '../../components/CopyText.vue'
import ProblemNote from '../../components/ProblemNote.vue'
import ReasonForm from '../../components/ReasonForm.vue'
import TimeText from '../../components/TimeText.vue'
import { count } from '../../composables/format'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import { useTick } from '../../composables/useTick'
import { useSession } from '../../stores/session'

const props = defineProps<{ id: string }>()
const session = useSession()
const router = useRouter()
const tick = useTick(2000)
const path = computed(() => ({ path: { id: props.id } }))
const { data, problem, again } = useLoad(
  () => must(api.GET('/api/v1/feeds/{id}', { params: path.value })),
  () => [props.id, tick.value],
)
const may = computed(() => session.can('POST /api/v1/feeds'))
const last = computed(() => data.value?.runs[0])

const { busy, problem: refused, act } = useAct()
const run = (accept?: string) =>
  act(async () => {
    await must(api.POST('/api/v1/feeds/{id}/run', { params: path.value, body: accept ? { accept } : {} }))
    await again()
  })

/** The act that a reason is asked for. */
type Act = 'pause' | 'resume' | 'accept' | 'keep' | 'take-back'
const asking = ref<Act | null>(null)
const labels: Record<Act, string> = {
  pause: 'Pause',
  resume: 'Go on',
  accept: 'Fetch, and take it as it is',
  keep: 'Remove, and keep what it said',
  'take-back': 'Remove, and take back what it said',
}
const doing = (what: Act) => async (reason: string) => {
  const params = path.value
  if (what === 'accept') return must(api.POST('/api/v1/feeds/{id}/run', { params, body: { accept: reason } }))
  if (what === 'keep' || what === 'take-back') {
    await must(api.POST('/api/v1/feeds/{id}/remove', { params, body: { reason, readings: what } }))
    return router.push({ name: 'feeds' })
  }
  const status = what === 'pause' ? ('paused' as const) : ('enabled' as const)
  return must(api.POST('/api/v1/feeds/{id}/status', { params, body: { status, reason } }))
}
function done() {
  asking.value = null
  return again()
}
</script>

<template>
  <p class="small"><router-link :to="{ name: 'feeds' }">All feeds</router-link></p>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-if="!data && !problem" :rows="8" animated />
  <template v-if="data">
    <h2 class="name">
      <CopyText :text="data.feed.id">{{ data.feed.id }}</CopyText>
      <span v-if="data.status === 'paused'" class="bad">paused</span>
    </h2>
    <p class="soft">{{ data.feed.title }}</p>
    <div v-if="may" class="acts">
      <el-button type="primary" :loading="busy || Boolean(data.running)" @click="run()">Fetch now</el-button>
      <el-button @click="asking = data.status === 'paused' ? 'resume' : 'pause'">{{
        data.status === 'paused' ? 'Go on' : 'Pause'
      }}</el-button>
      <router-link :to="{ name: 'feed-change', params: { id } }">Change it</router-link>
      <el-button link @click="asking = asking === 'keep' || asking === 'take-back' ? null : 'keep'">Remove…</el-button>
    </div>
    <div v-if="asking === 'keep' || asking === 'take-back'" class="fate">
      <el-radio-group v-model="asking" aria-label="What becomes of what it said">
        <el-radio value="keep">Keep what it said of devices, until that is stale</el-radio>
        <el-radio value="take-back" :disabled="data.feed.kind === 'people'"
          >Take back what it said of {{ count(data.devices ?? 0, 'device') }}</el-radio
        >
      </el-radio-group>
    </div>
    <ReasonForm
      v-if="asking"
      :key="asking"
      :label="labels[asking]"
      :what="doing(asking)"
      @done="done"
      @cancel="asking = null"
    />
    <ProblemNote v-if="refused" :problem="refused" />

    <div v-if="data.running" class="now" role="status">
      Being fetched: {{ count(data.running.items, 'item') }} on {{ count(data.running.pages, 'page') }},
      {{ Math.round(data.running.bytes / 1024) }} KiB
    </div>
    <div v-else-if="last?.error || last?.gone_held" class="now bad" role="alert">
      {{ last.error || last.gone_held }}
      <div v-if="data.failures > 1 && data.failing_since" class="small">
        It failed {{ data.failures }} times in a row, first <TimeText :time="data.failing_since" />.
      </div>
      <div v-if="may && (last.gone_held || data.feed.kind === 'people')">
        <el-button link type="primary" @click="asking = 'accept'">It is so: take it…</el-button>
      </div>
    </div>

    <dl>
      <dt>Brings</dt>
      <dd>
        {{ data.feed.kind }}<template v-if="data.feed.source"> as {{ data.feed.source }}</template
        ><template v-if="data.devices">; it said something of {{ count(data.devices, 'device') }}</template>
        <div v-if="data.feed.whole" class="soft small">What it does not list is gone.</div>
      </dd>
      <dt>From</dt>
      <dd>
        <code>{{ data.feed.url || data.feed.folder }}</code>{{
          data.feed.pages?.by && data.feed.pages.by !== 'none' ? `, in pages by ${data.feed.pages.by}` : ''
        }}
      </dd>
      <dt>Signs in</dt>
      <dd>
        {{ data.feed.sign_in?.by ?? 'none' }} {{ data.feed.sign_in?.client_id ?? data.feed.sign_in?.user ?? '' }}
        <div v-if="data.secret_at" class="soft small">
          Its secret was given <TimeText :time="data.secret_at" /><template v-if="data.secret_until"
            >, and ends <TimeText :time="data.secret_until" /></template
          >.
        </div>
      </dd>
      <dt>Every</dt>
      <dd>
        {{ data.feed.every
        }}<template v-if="data.next_at && data.status === 'enabled'">, next <TimeText :time="data.next_at" /></template>
        <div v-if="data.feed.since?.parameter" class="soft small">
          What changed alone; everything every {{ data.feed.since.full_every }}.
        </div>
      </dd>
    </dl>

    <template v-if="last?.reasons?.length">
      <h2>Not taken as it came, in the last run</h2>
      <table class="ruled">
        <thead>
          <tr>
            <th>What</th>
            <th class="number">How often</th>
            <th>Why</th>
            <th>As in</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in last.reasons" :key="r.what + r.message">
            <td>
              <code>{{ r.what }}</code>
            </td>
            <td class="number">{{ r.count }}</td>
            <td>{{ r.message }}</td>
            <td>{{ r.example }}</td>
          </tr>
        </tbody>
      </table>
    </template>

    <h2>Runs</h2>
    <p v-if="data.runs.length === 0" class="soft">None has ended yet.</p>
    <table v-else class="ruled">
      <thead>
        <tr>
          <th>Began</th>
          <th>Outcome</th>
          <th class="number">Pages</th>
          <th class="number">Items</th>
          <th class="number">Taken</th>
          <th class="number">Rejected</th>
          <th class="number">New</th>
          <th class="number">Changed level</th>
          <th class="number">Gone</th>
          <th>Asked by</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in data.runs" :key="r.number">
          <td><TimeText :time="r.started_at" /></td>
          <td>
            <strong :class="{ bad: r.outcome === 'failed' }">{{ r.outcome }}</strong>
            <div v-if="r.error || r.gone_held" class="small">{{ r.error || r.gone_held }}</div>
            <div v-if="r.clock" class="small">The partner's clock is {{ r.clock }}.</div>
          </td>
          <td class="number">{{ r.pages }}</td>
          <td class="number">{{ r.items }}</td>
          <td class="number">{{ r.accepted }}</td>
          <td class="number">{{ r.rejected }}</td>
          <td class="number">{{ r.new }}</td>
          <td class="number">{{ r.moved }}</td>
          <td class="number">{{ r.gone }}</td>
          <td>{{ r.by || 'the schedule' }}</td>
        </tr>
      </tbody>
    </table>
  </template>
</template>

<style scoped>
.name {
  margin: 4px 0;
  font-size: 22px;
  display: flex;
  gap: 16px;
}
.acts {
  display: flex;
  gap: 16px;
  align-items: center;
  margin: 8px 0;
}
.acts .el-button {
  margin: 0;
}
.fate {
  margin: 8px 0 0;
}
.now {
  border-left: 3px solid var(--metal);
  padding: 6px 16px;
  margin: 12px 0;
}
.bad {
  color: var(--metal);
}
.number {
  text-align: right;
}
dl {
  display: grid;
  grid-template-columns: 100px 1fr;
  gap: 6px 20px;
  margin: 16px 0 0;
}
dt {
  color: var(--ink-soft);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
</style>
