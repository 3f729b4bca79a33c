<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, must, type AccessShift, type Device, type Shift } from '../../api/client'
import AccessShiftSheet from '../../components/AccessShift.vue'
import DeviceSheet from '../../components/DeviceSheet.vue'
import LevelMark from '../../components/LevelMark.vue'
import ProblemNote from '../../components/ProblemNote.vue'
import { count } from '../../composables/format'
import { useAct } from '../../composables/useAct'
import { useQuery } from '../../composables/useQuery'
import { useDraft } from '../../stores/draft'

const draft = useDraft()
const { query, set } = useQuery('from', 'to', 'rule', 'platform')
const shift = ref<Shift | null>(null)
const asked = ref<AccessShift | null>(null)
const of = ref('')
const { busy, problem, act } = useAct()
const state = computed(() => JSON.stringify(draft.files))
const old = computed(() => shift.value !== null && of.value !== state.value)

async function rehearse() {
  of.value = state.value
  const body = { files: draft.files }
  await act(async () => {
    shift.value = await must(api.POST('/api/v1/rulebooks/rehearse', { body }))
    asked.value = await must(api.POST('/api/v1/rulebooks/replay', { body }))
  })
}

/** Without a draft: what enforcing the shadow baselines of the rulebook in force would do. */
async function shadow() {
  of.value = state.value
  asked.value = null
  await act(async () => {
    shift.value = await must(api.GET('/api/v1/shadow'))
  })
}
const tried = computed(() => !draft.dirty)
void (draft.dirty ? rehearse() : shadow())

const moves = computed(() =>
  (shift.value?.moves ?? []).filter(
    (m) =>
      (!query.value.from || m.from === query.value.from) &&
      (!query.value.to || m.to === query.value.to) &&
      (!query.value.rule || m.rules.includes(query.value.rule)) &&
      (!query.value.platform || (m.platform || 'unknown') === query.value.platform),
  ),
)
const narrowed = computed(() => Object.values(query.value).some((v) => v !== ''))
const rank = (level: string) => shift.value!.to.indexOf(level)
const bends = computed(() => {
  const s = shift.value
  return s
    ? [
        { name: 'By rule', key: 'rule' as const, counts: s.rules.filter((c) => c.falls + c.rises > 0) },
        { name: 'By platform', key: 'platform' as const, counts: s.platforms.filter((c) => c.falls + c.rises > 0) },
        { name: 'By group of the owner', key: null, counts: s.groups.filter((c) => c.falls + c.rises > 0) },
      ]
    : []
})

const shown = ref<Device | null>(null)
const open = ref(false)
const { busy: opening, problem: unopened, act: look } = useAct()
async function explain(id: string) {
  shown.value = null
  open.value = true
  await look(async () => {
    shown.value = await must(
      api.POST('/api/v1/rulebooks/rehearse/{id}', { params: { path: { id } }, body: { files: draft.files } }),
    )
  })
}
</script>

<template>
  <p v-if="!tried" class="lead">
    What the draft would do to today's fleet and to the requests of the last week. Nothing is changed by it.
    <el-button :loading="busy" :type="old || !shift ? 'primary' : 'default'" @click="rehearse">{{
      shift ? 'Rehearse again' : 'Rehearse'
    }}</el-button>
    <span v-if="old" class="bad">The draft has changed since.</span>
  </p>
  <p v-else class="soft">
    There is no draft to rehearse. This is what enforcing the baselines that stand in shadow would do to today's fleet;
    change something in the <router-link :to="{ name: 'rulebook' }">text</router-link> or the
    <router-link :to="{ name: 'rules' }">rules</router-link> to rehearse that.
  </p>
  <ProblemNote v-if="problem" :problem="problem" @again="rehearse" />
  <div v-if="shift" :class="{ stale: busy }">
    <p class="sum">
      <strong>{{ count(shift.devices, 'device') }}</strong>: {{ shift.falls }} would fall, {{ shift.rises }} would rise,
      {{ shift.devices - shift.falls - shift.rises }} stay.
    </p>
    <div class="board">
      <table class="matrix">
        <thead>
          <tr>
            <th class="corner">now ↓ &nbsp; then →</th>
            <th v-for="(l, j) in shift.to" :key="l">
              <LevelMark :level="l" :rank="j" :top="shift.to.length - 1" />
            </th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(row, i) in shift.matrix" :key="i">
            <th><LevelMark :level="shift.from[i]!" :rank="i" :top="shift.from.length - 1" /></th>
            <td
              v-for="(n, j) in row"
              :key="j"
              :class="{ same: shift.from[i] === shift.to[j], moved: n > 0 && shift.from[i] !== shift.to[j] }"
            >
              <button
                v-if="n > 0 && shift.from[i] !== shift.to[j]"
                type="button"
                :aria-label="`${n} from ${shift.from[i]} to ${shift.to[j]}`"
                @click="set({ from: shift.from[i]!, to: shift.to[j]! })"
              >
                {{ n }}</button><template v-else>{{ n || '·' }}</template>
            </td>
          </tr>
        </tbody>
      </table>
      <div v-for="b in bends" :key="b.name" class="bend">
        <h3>{{ b.name }}</h3>
        <p v-if="b.counts.length === 0" class="soft">None moves.</p>
        <ul>
          <li v-for="c in b.counts.slice(0, 8)" :key="c.id">
            <router-link v-if="b.key" :to="{ query: { [b.key]: c.id } }">{{ c.id }}</router-link>
            <template v-else>{{ c.id }}</template> <span v-if="c.falls" class="bad">{{ c.falls }} fall</span>
            <span v-if="c.rises" class="good"> {{ c.rises }} rise</span>
            <span v-if="c.devices" class="soft small"> of {{ c.devices }}</span>
          </li>
        </ul>
      </div>
    </div>
    <h2>
      {{ narrowed ? `${moves.length} of ${shift.moves.length}` : shift.moves.length }} that would move
      <el-button v-if="narrowed" link @click="set({ from: '', to: '', rule: '', platform: '' })">Show all</el-button>
    </h2>
    <p v-if="moves.length === 0" class="soft">No device would change level.</p>
    <table v-else class="ruled">
      <thead>
        <tr>
          <th>Device</th>
          <th>Owner</th>
          <th>Now</th>
          <th>Then</th>
          <th>By</th>
          <th />
        </tr>
      </thead>
      <tbody>
        <tr v-for="m in moves.slice(0, 200)" :key="m.device">
          <td>
            <router-link :to="{ name: 'device', params: { id: m.device } }">{{ m.device }}</router-link>
            <span class="soft"> {{ m.name }}</span>
          </td>
          <td>{{ m.owner }}</td>
          <td>{{ m.from }}</td>
          <td>
            <span class="way" aria-hidden="true">{{ m.falls ? '↓' : '↑' }}</span>
            <LevelMark :level="m.to" :rank="rank(m.to)" :top="shift.to.length - 1" />
          </td>
          <td>{{ m.rules.join(', ') }}</td>
          <td><el-button v-if="!tried" link type="primary" @click="explain(m.device)">Explain</el-button></td>
        </tr>
      </tbody>
    </table>
    <p v-if="moves.length > 200" class="soft">
      and {{ moves.length - 200 }} more; narrow them down above, or use
      <code>ironledger rulebook rehearse -o csv</code>.
    </p>
  </div>
  <section v-if="asked" :class="{ stale: busy }">
    <h2>Requests</h2>
    <AccessShiftSheet :shift="asked" />
  </section>
  <el-drawer
    v-model="open"
    size="940px"
    :modal="false"
    :title="shown ? `${shown.name || shown.id} under the draft` : 'Under the draft'"
  >
    <ProblemNote v-if="unopened" :problem="unopened" />
    <el-skeleton v-else-if="opening || !shown" :rows="8" animated />
    <DeviceSheet v-else :device="shown" />
  </el-drawer>
</template>

<style scoped>
.lead {
  display: flex;
  gap: 14px;
  align-items: center;
}
.sum {
  font-size: 17px;
}
.board {
  display: flex;
  gap: 20px 36px;
  align-items: flex-start;
  flex-wrap: wrap;
}
.matrix {
  border-collapse: collapse;
}
.matrix th {
  text-align: left;
  font-weight: 400;
  padding: 6px 14px 6px 0;
}
.matrix thead th {
  border-bottom: 1px solid var(--rule-strong);
  padding-left: 12px;
}
.matrix thead th.corner {
  padding-left: 0;
  color: var(--ink-soft);
  font-size: 13px;
}
.matrix td {
  text-align: right;
  padding: 6px 18px 6px 12px;
  border-bottom: 1px solid var(--rule);
}
.matrix tbody th {
  border-bottom: 1px solid var(--rule);
}
.matrix .same {
  color: var(--ink-soft);
  background: color-mix(in srgb, var(--rule) 25%, transparent);
}
.matrix .moved button {
  border: 0;
  background: none;
  font: inherit;
  font-weight: 700;
  color: var(--metal);
  text-decoration: underline;
  cursor: pointer;
  padding: 0;
}
.bend ul {
  list-style: none;
  padding: 0;
  margin: 6px 0;
}
.bend li {
  padding: 2px 0;
  display: flex;
  gap: 8px;
  align-items: baseline;
}
.bad {
  color: var(--metal);
  font-weight: 600;
}
.good {
  color: var(--good);
  font-weight: 600;
}
.way {
  color: var(--metal);
  font-weight: 700;
}
.stale {
  opacity: 0.6;
}
</style>
