<script setup lang="ts">
import { computed } from 'vue'
import { api, must, type Ruling } from '../api/client'
import CopyText from '../components/CopyText.vue'
import LeafRow from '../components/LeafRow.vue'
import LevelMark from '../components/LevelMark.vue'
import ProblemNote from '../components/ProblemNote.vue'
import TimeText from '../components/TimeText.vue'
import { remedyText } from '../composables/format'
import { useLoad } from '../composables/useLoad'

const props = defineProps<{ id: string }>()
const { data: device, problem, loading, again } = useLoad(
  () => must(api.GET('/api/v1/devices/{id}', { params: { path: { id: props.id } } })),
  () => props.id,
)

const held = (v: Ruling) => v.holds_at !== undefined || v.verdict === 'grace'
/** What holds the device down first, the binding rules before the others. */
const rulings = computed(() => {
  const place = (v: Ruling) => (v.shadow ? 3 : v.binding ? 0 : held(v) ? 1 : 2)
  return [...(device.value?.standing.verdicts ?? [])].sort((a, b) => place(a) - place(b))
})
const cures = computed(() => {
  const seen = new Set<string>()
  return rulings.value.filter(held).flatMap((v) => {
    const text = remedyText(v.remedy)
    if (!text || seen.has(text.title + text.steps)) return []
    seen.add(text.title + text.steps)
    return [{ rule: v.rule, until: v.grace_until, ...text }]
  })
})
const facts = computed(() => {
  const d = device.value
  return d ? [d.platform, d.os_version, d.form, d.model, d.ownership && `${d.ownership} property`].filter(Boolean).join(', ') : ''
})
const next = computed(() => device.value?.standing.reach[0])
</script>

<template>
  <p class="small"><router-link to="/devices">Devices</router-link></p>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-else-if="!device && loading" :rows="10" animated />
  <div v-else-if="device" class="page">
    <header>
      <div>
        <h1>{{ device.name || device.id }}</h1>
        <p class="soft"><CopyText :text="device.id" /> {{ facts }}<template v-if="device.owner">, of <router-link :to="{ name: 'devices', query: { q: device.owner } }">{{ device.owner }}</router-link></template></p>
      </div>
      <router-link :to="{ name: 'ask', query: { device: device.id, person: device.owner } }">Ask what it may reach</router-link>
    </header>

    <section class="standing">
      <LevelMark :level="device.level" :rank="device.rank" :top="device.top" large />
      <div>
        <p>
          <template v-if="!device.covered">No enforced baseline applies to this device, so it stands at the level for uncovered devices.</template>
          <template v-else-if="device.binding.length > 0">Held at {{ device.level }} by <strong>{{ device.binding.join(', ') }}</strong>.</template>
          <template v-else>Nothing holds it down.</template>
          <template v-if="next && next.rules.length > 0"> To reach <strong>{{ next.level }}</strong>, it must pass {{ next.rules.join(', ') }}.</template>
        </p>
        <p class="soft small">
          {{ device.level }} since <TimeText :time="device.since" />, last seen <TimeText :time="device.seen_at" />,
          <template v-if="device.standing.next_change">may change by itself <TimeText :time="device.standing.next_change" /></template>
          <template v-else>does not change by itself</template>.
          <template v-if="device.shadow_level"> Were the shadow baselines enforced, it would be <strong>{{ device.shadow_level }}</strong>.</template>
        </p>
      </div>
    </section>

    <div class="sheet">
      <section>
        <table v-if="rulings.length > 0" class="ruled">
          <thead><tr><th>Rule</th><th>Verdict</th><th>Required</th><th>Observed</th><th>Source</th><th>Age</th><th>Holds at</th></tr></thead>
          <tbody v-for="v in rulings" :key="v.rule">
            <tr v-for="(leaf, i) in v.why" :key="i" :class="{ joined: i < v.why.length - 1, held: held(v) && !v.shadow }">
              <td v-if="i === 0" :rowspan="v.why.length" class="rule">{{ v.title || v.rule }}<div class="soft small">{{ v.rule }}</div></td>
              <td v-if="i === 0" :rowspan="v.why.length"><span class="verdict" :class="v.verdict">{{ v.verdict }}</span><div v-if="v.shadow" class="soft small">shadow</div><div v-if="v.grace_until" class="soft small">until <TimeText :time="v.grace_until" /></div></td>
              <LeafRow :leaf="leaf" />
              <td v-if="i === 0" :rowspan="v.why.length">{{ v.holds_at }}</td>
            </tr>
          </tbody>
        </table>
        <p v-else class="soft">No rule speaks of this device.</p>
      </section>
      <aside v-if="cures.length > 0" aria-label="What to do">
        <h3>What to do</h3>
        <ol>
          <li v-for="c in cures" :key="c.rule"><strong>{{ c.title }}.</strong> {{ c.steps }}<div class="soft small">{{ c.rule }}<template v-if="c.until">, before <TimeText :time="c.until" /></template></div></li>
        </ol>
      </aside>
    </div>

    <section v-if="device.standing.reach.length > 1">
      <h2>To reach each level</h2>
      <table class="ruled narrow">
        <tbody><tr v-for="step in device.standing.reach" :key="step.level"><td><strong>{{ step.level }}</strong></td><td>{{ step.rules.join(', ') }}</td></tr></tbody>
      </table>
    </section>

    <section>
      <h2>Evidence</h2>
      <table class="ruled">
        <thead><tr><th>Attribute</th><th>Reading</th><th>Source</th><th>Age</th><th /></tr></thead>
        <tbody>
          <tr v-for="r in device.readings" :key="r.attribute + r.source">
            <td>{{ r.title }}<div class="soft small">{{ r.attribute }}</div></td>
            <td class="reading"><template v-if="r.unavailable"><span class="soft">unavailable:</span> {{ r.unavailable }}</template><template v-else>{{ r.text }}</template></td>
            <td>{{ r.source }}</td>
            <td class="nowrap" :title="r.observed_at">{{ r.age }}</td>
            <td class="soft small">{{ r.stale ? 'stale' : r.counts ? '' : 'does not count' }}</td>
          </tr>
        </tbody>
      </table>
    </section>
  </div>
</template>

<style scoped>
header { display: flex; justify-content: space-between; align-items: baseline; gap: 24px; }
.standing { display: flex; gap: 28px; align-items: center; border-top: 1px solid var(--rule-strong); border-bottom: 1px solid var(--rule-strong); padding: 14px 0 10px; margin: 10px 0 16px; }
.standing p { margin-bottom: 4px; }
.sheet { display: flex; gap: 32px; align-items: flex-start; }
.sheet > section { flex: 1; min-width: 0; }
aside { width: 250px; border-left: 2px solid var(--metal); padding-left: 18px; }
ol { padding-left: 18px; margin: 8px 0; }
li { margin-bottom: 10px; }
.rule { min-width: 170px; }
.held .rule { font-weight: 600; }
.verdict.fail { color: var(--metal); font-weight: 600; }
.verdict.unknown, .verdict.grace { border-bottom: 1px dashed var(--metal); }
.narrow { max-width: 900px; }
.reading { overflow-wrap: anywhere; max-width: 560px; }
</style>
