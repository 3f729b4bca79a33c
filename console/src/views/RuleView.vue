<script setup lang="ts">
// One rule in force: what it asks and of whom, what it says by platform and over time, and who is excepted.
import { computed } from 'vue'
import { api, must } from '../api/client'
import FleetChart from '../components/FleetChart.vue'
import SpanLinks from '../components/SpanLinks.vue'
import ProblemNote from '../components/ProblemNote.vue'
import TimeText from '../components/TimeText.vue'
import { num, remedyText } from '../composables/format'
import { ofFleet, useLoad } from '../composables/useLoad'
import { useQuery } from '../composables/useQuery'

const props = defineProps<{ baseline: string; rule: string }>()
const { query, set } = useQuery('back')
const key = computed(() => `${props.baseline}/${props.rule}`)
const {
  data: r,
  problem,
  loading,
  again,
} = useLoad(
  () =>
    must(
      api.GET('/api/v1/rules/{baseline}/{rule}', {
        params: {
          path: { baseline: props.baseline, rule: props.rule },
          query: { ...(query.value.back && { back: query.value.back }) },
        },
      }),
    ),
  () => [key.value, query.value.back],
  ofFleet,
)

const verdicts = ['fail', 'unknown', 'grace', 'waived'] as const
const names = { fail: 'fail', unknown: 'not known', grace: 'in grace', waived: 'excepted', pass: 'pass' }
const series = computed(() =>
  verdicts.map((v) => ({ name: names[v], values: (r.value?.course ?? []).map((p) => p.counts[v]) })),
)
const still = computed(() => series.value.every((s) => s.values.every((v) => v === 0)))
const checks = computed(() => Object.entries(r.value?.checks ?? {}).sort(([a], [b]) => a.localeCompare(b)))
const remedy = computed(() => remedyText(r.value?.remedy))
const listed = (verdict: string, platform?: string) => ({
  name: 'devices',
  query: {
    rule: key.value,
    verdict,
    ...(platform && { where: platform === 'unknown' ? 'not known(platform)' : `platform == ${platform}` }),
  },
})
</script>

<template>
  <p v-if="!r" class="small"><router-link :to="{ name: 'rule-list' }">Rules</router-link></p>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-if="!r && loading" :rows="8" animated />
  <template v-else-if="r">
    <p class="small soft">
      <router-link :to="{ name: 'rule-list' }">Rules</router-link> · {{ r.baseline || baseline }}
    </p>
    <h1>{{ r.title || key }}</h1>
    <p>
      <code>{{ key }}</code> holds a device that fails it at <strong>{{ r.cap }}</strong><template
        v-if="r.unknown !== r.cap"
        >, one of which it is not known at <strong>{{ r.unknown }}</strong></template
      ><template v-if="r.grace">, after a grace of {{ r.grace }}</template
      >.
      <template v-if="r.mode !== 'enforce'">It is in shadow: it says what it would do, and does nothing.</template>
      <template v-if="!r.waivable">Nobody may be excepted from it.</template>
    </p>
    <div class="sides">
      <section>
        <h2>What it says</h2>
        <div class="scrolls">
          <table class="ruled">
            <thead>
              <tr>
                <th>Platform</th>
                <th v-for="v in ['pass', ...verdicts] as const" :key="v" class="right">{{ names[v] }}</th>
                <th class="right">binds</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="p in r.platforms" :key="p.platform">
                <td>{{ p.platform }}</td>
                <td v-for="v in ['pass', ...verdicts] as const" :key="v" class="right">
                  <router-link v-if="p.counts[v] > 0" :to="listed(v, p.platform)">{{ num(p.counts[v]) }}</router-link>
                  <span v-else class="soft">·</span>
                </td>
                <td class="right">{{ num(p.counts.binding, '·') }}</td>
              </tr>
              <tr v-if="r.platforms.length === 0">
                <td colspan="7" class="soft">It is for no device in service.</td>
              </tr>
              <tr v-else class="all">
                <td>all</td>
                <td v-for="v in ['pass', ...verdicts] as const" :key="v" class="right">
                  <router-link v-if="r.counts[v] > 0" :to="listed(v)">{{ num(r.counts[v]) }}</router-link>
                  <span v-else class="soft">·</span>
                </td>
                <td class="right">{{ num(r.counts.binding, '·') }}</td>
              </tr>
            </tbody>
          </table>
        </div>
        <h2>Over time</h2>
        <p class="small">
          <SpanLinks :back="query.back" @pick="(back) => set({ back })" />
        </p>
        <p v-if="still" class="soft">Every device passed it all this time.</p>
        <div v-else>
          <FleetChart
            kind="line"
            :series="series"
            :along="r.course.map((p) => p.at)"
            label="Devices that fail the rule, or of which it is not known, in grace or excepted, over time"
          />
        </div>
      </section>
      <aside>
        <h2>What it asks</h2>
        <p class="small soft">of devices where</p>
        <pre>{{ r.applies }}</pre>
        <div v-for="[platform, check] in checks" :key="platform">
          <p class="small soft">{{ platform || (checks.length > 1 ? 'others' : 'that') }}</p>
          <pre>{{ check }}</pre>
        </div>
        <p class="small">
          <router-link :to="{ name: 'rules', query: { rule: key } }">Change it in the draft</router-link>
          <span class="soft"> · {{ r.where.file }}:{{ r.where.line }}</span>
        </p>
        <h2>Remedy</h2>
        <template v-if="remedy">
          <p>
            <strong>{{ remedy.title }}</strong>
          </p>
          <p class="soft">{{ remedy.steps }}</p>
        </template>
        <p v-else class="soft">None is written: people are told what fails, and not what to do.</p>
        <h2>Exceptions</h2>
        <p v-if="r.waivers.length === 0" class="soft">No device is excepted.</p>
        <ul v-else>
          <li v-for="w in r.waivers" :key="w.id">
            <router-link :to="{ name: 'device', params: { id: w.device } }">{{ w.device }}</router-link>
            <template v-if="w.state === 'asked'"> waits for a second person</template>
            <template v-else> until <TimeText :time="w.until" /></template>
            <div class="small soft">{{ w.reason }}, {{ w.author }}</div>
          </li>
        </ul>
      </aside>
    </div>
  </template>
</template>

<style scoped>
.sides {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 320px;
  gap: 0 48px;
}
.right {
  text-align: right;
  padding-right: 22px;
}
.all td {
  font-weight: 600;
}
aside pre {
  margin: 0 0 12px;
}
aside p.small {
  margin: 0;
}
ul {
  list-style: none;
  padding: 0;
  margin: 0;
}
li {
  border-bottom: 1px solid var(--rule);
  padding: 5px 0;
}
@media (max-width: 1000px) {
  .sides {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
