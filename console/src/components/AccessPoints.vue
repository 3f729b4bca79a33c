<script setup lang="ts">
// The access points and switches that may ask who joins a network, what was dropped
// of what they sent, and who else asked.
import { reactive, ref } from 'vue'
import { api, must, type NetworkClient } from '../api/client'
import { count } from '../composables/format'
import { useAct } from '../composables/useAct'
import { ofKinds, useLoad } from '../composables/useLoad'
import { useSession } from '../stores/session'
import ProblemNote from './ProblemNote.vue'
import ReasonForm from './ReasonForm.vue'
import SecretOnce from './SecretOnce.vue'
import TimeText from './TimeText.vue'

defineProps<{ networks: string[] }>()
const session = useSession()
const { data, problem, again } = useLoad(
  () => must(api.GET('/api/v1/networks/clients')),
  () => null,
  ofKinds('access-point.', 'stay.'),
)
const adding = ref(false)
const removing = ref('')
const made = ref<NetworkClient | null>(null)
const draft = reactive({ id: '', range: '', networks: [] as string[] })
const { busy, problem: refused, act } = useAct()

function begin() {
  refused.value = null
  made.value = null
  adding.value = true
}

async function add() {
  const { id, range, networks } = draft
  const done = await act(async () => {
    made.value = await must(
      api.POST('/api/v1/networks/clients', {
        body: { id: id.trim(), range: range.trim(), ...(networks.length > 0 && { networks }) },
      }),
    )
  })
  if (!done) return
  Object.assign(draft, { id: '', range: '', networks: [] })
  adding.value = false
  await again()
}

async function removed() {
  removing.value = ''
  await again()
}

const remove = (id: string) => (reason: string) =>
  must(api.POST('/api/v1/networks/clients/{id}/remove', { params: { path: { id } }, body: { reason } }))
</script>

<template>
  <header class="head">
    <h2 id="clients">Access points</h2>
    <el-button v-if="session.can('POST /api/v1/networks/clients') && !adding" type="primary" @click="begin"
      >Add one…</el-button
    >
  </header>
  <p v-if="data && !data.doors?.length" class="soft">
    This service takes no packets of RADIUS: start it with <code>--radius</code> and <code>--radius-accounting</code>.
  </p>
  <p v-else-if="data" class="soft small">Packets are taken at {{ data.doors?.join(', ') }}.</p>
  <form v-if="adding" class="fields" @submit.prevent="add" @keydown.esc="adding = false">
    <label
      >Its name <el-input v-model="draft.id" name="client-id" placeholder="deck-3" maxlength="100" autofocus
    /></label>
    <label
      >The address that it sends from, or a network of several
      <el-input v-model="draft.range" name="client-range" placeholder="10.40.3.7 or 10.40.3.0/24"
    /></label>
    <label
      >Networks that it may ask about
      <el-select v-model="draft.networks" multiple placeholder="all" aria-label="Networks that it may ask about"
        ><el-option v-for="n in networks" :key="n" :value="n" :label="n" /></el-select
    ></label>
    <p class="wide">
      <el-button native-type="submit" type="primary" :loading="busy" :disabled="!draft.id.trim() || !draft.range.trim()"
        >Let it ask</el-button
      >
      <el-button link @click="adding = false">Not now</el-button>
      <span class="soft small"
        >A secret is made for it. With a certificate over TLS it is added at the command line.</span
      >
    </p>
  </form>
  <SecretOnce v-if="made?.secret" :of="made.id" :text="made.secret" @done="made = null" />
  <ProblemNote v-if="refused" :problem="refused" />
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <div v-if="data?.items.length" class="scrolls">
    <table class="ruled">
      <thead>
        <tr>
          <th>Access point</th>
          <th>At</th>
          <th>Asks about</th>
          <th class="number">There</th>
          <th>Dropped</th>
          <th>Added</th>
          <th />
        </tr>
      </thead>
      <tbody>
        <template v-for="c in data.items" :key="c.id">
          <tr>
            <td>
              <strong>{{ c.id }}</strong>
              <div v-if="c.title" class="soft small">{{ c.title }}</div>
            </td>
            <td>
              <code>{{ c.range }}</code>
              <div class="soft small">by its {{ c.proves }}, told at port {{ c.told_at }}</div>
            </td>
            <td>{{ c.networks?.join(', ') || 'all' }}</td>
            <td class="number">{{ c.stays || '·' }}</td>
            <td>
              <span v-if="c.dropped.length === 0" class="soft">nothing</span>
              <div v-for="d in c.dropped" :key="d.why" class="small">{{ d.times }} × {{ d.why }}</div>
            </td>
            <td>
              <TimeText :time="c.at" /><span class="soft small">, by {{ c.by }}</span>
            </td>
            <td class="right">
              <el-button
                v-if="session.can('POST /api/v1/networks/clients/{id}/remove')"
                link
                @click="removing = removing === c.id ? '' : c.id"
                >Remove…</el-button
              >
            </td>
          </tr>
          <tr v-if="removing === c.id">
            <td colspan="7">
              <p class="soft">
                It may ask no more, and is told nothing. Devices that it let in stay until it ends that.
              </p>
              <ReasonForm :label="`Remove ${c.id}`" :what="remove(c.id)" @done="removed" @cancel="removing = ''" />
            </td>
          </tr>
        </template>
      </tbody>
    </table>
  </div>
  <p v-else-if="data" class="empty">None may ask yet.</p>
  <p v-if="data?.strangers.length" class="soft">
    Nobody entered
    <template v-for="(s, i) in data.strangers" :key="s.address"
      ><template v-if="i">, </template><code>{{ s.address }}</code> ({{ count(s.times, 'packet') }})</template
    >: what comes from there is dropped.
  </p>
</template>

<style scoped>
.head {
  display: flex;
  justify-content: space-between;
  align-items: baseline;
  margin-top: 10px;
}
.number {
  text-align: right;
}
.right {
  text-align: right;
  white-space: nowrap;
}
.empty {
  padding: 18px 0;
}
</style>
