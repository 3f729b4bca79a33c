<script setup lang="ts">
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import { api, must } from '../api/client'
import FleetChart from '../components/FleetChart.vue'
import SpanLinks from '../components/SpanLinks.vue'
import LevelMark from '../components/LevelMark.vue'
import ProblemNote from '../components/ProblemNote.vue'
import TimeText from '../components/TimeText.vue'
import { count, num } from '../composables/format'
import { ofFleet, useLoad } from '../composables/useLoad'
import { useQuery } from '../composables/useQuery'

const router = useRouter()
const { query, set } = useQuery('back')
const {
  data: fleet,
  problem,
  loading,
  again,
} = useLoad(
  () => must(api.GET('/api/v1/overview', { params: { query: { back: query.value.back || '7d', within: '7d' } } })),
  () => query.value,
  ofFleet,
)
const top = computed(() => (fleet.value?.ladder.length ?? 1) - 1)
const total = computed(
  () =>
    fleet.value?.ladder
      .map((level, i) => ({ level, rank: i, n: fleet.value!.platforms.reduce((sum, p) => sum + p.levels[i]!, 0) }))
      .reverse() ?? [],
)
const platforms = computed(
  () => fleet.value?.ladder.map((name, i) => ({ name, values: fleet.value!.platforms.map((p) => p.levels[i]!) })) ?? [],
)
const course = computed(
  () => fleet.value?.ladder.map((name, i) => ({ name, values: fleet.value!.course.map((p) => p.levels[i]!) })) ?? [],
)
const rules = computed(() => fleet.value?.rules.slice(0, 10) ?? [])
const devices = (where: string) => ({ name: 'devices', query: { where } })

function pick(level: string, platform: string) {
  const which = platform === 'unknown' ? 'not known(platform)' : `platform == ${platform}`
  return router.push(devices(`level == ${level} and ${which}`))
}

const verdicts = ['fail', 'unknown', 'grace', 'waived'] as const
</script>

<template>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-else-if="!fleet && loading" :rows="10" animated />
  <div v-else-if="fleet && fleet.devices === 0" class="empty">
    <h1>No devices yet</h1>
    <p class="soft">
      Bring evidence with <code>ironledger device import FILE</code>, or run <code>ironledger collect --send</code> on a
      Linux machine.
    </p>
  </div>
  <div v-else-if="fleet">
    <header>
      <h1>{{ count(fleet.devices, 'device') }}</h1>
      <router-link v-if="fleet.retired > 0" class="soft small" :to="{ name: 'devices', query: { retired: 'only' } }"
        >and {{ fleet.retired }} out of service</router-link
      >
      <ul class="levels" aria-label="Devices at each level">
        <li v-for="l in total" :key="l.level">
          <router-link :to="devices(`level == ${l.level}`)">
            <LevelMark :level="l.level" :rank="l.rank" :top="top" /> <strong>{{ num(l.n) }}</strong></router-link
          >
        </li>
      </ul>
    </header>
    <p v-for="e in fleet.emergencies.slice(0, 3)" :key="e.decision" class="notice">
      The break-glass account {{ e.person }} was used to {{ e.action }} {{ e.resource }} <TimeText :time="e.at" />:
      <router-link :to="{ name: 'decision', params: { id: e.decision } }">what was decided</router-link>.<template
        v-if="e === fleet.emergencies[2] && fleet.emergencies.length > 3"
      >
        And {{ fleet.emergencies.length - 3 }} times more in the last week.</template
      >
    </p>
    <p v-if="fleet.held > 0" class="notice">
      <router-link to="/sources">{{ count(fleet.held, 'device') }}</router-link>
      {{ fleet.held === 1 ? 'waits' : 'wait' }} to be taken in.
    </p>
    <p v-if="fleet.unmatched > 0" class="notice">
      <router-link to="/sources">{{ count(fleet.unmatched, 'report') }}</router-link> could be of more than one device
      and {{ fleet.unmatched === 1 ? 'waits' : 'wait' }} for a person.
    </p>
    <p v-for="s in fleet.quiet" :key="s.id" class="notice">
      The source <router-link to="/sources">{{ s.id }}</router-link> is quiet:
      <template v-if="s.last_at">its newest reading is from <TimeText :time="s.last_at" /></template>
      <template v-else>it has never reported</template>; something should come every {{ s.quiet_after }}
      or sooner.
    </p>

    <div class="charts">
      <FleetChart
        kind="bar"
        label="By platform"
        :series="platforms"
        :along="fleet.platforms.map((p) => p.platform)"
        @pick="pick"
      />
      <div>
        <div class="spans">
          <SpanLinks :back="query.back" @pick="(back) => set({ back })" />
        </div>
        <FleetChart kind="line" label="Over time" :series="course" :along="fleet.course.map((p) => p.at)" />
      </div>
    </div>

    <div class="columns">
      <section class="wide">
        <h2>What holds devices down</h2>
        <table class="ruled">
          <thead>
            <tr>
              <th>Rule</th>
              <th class="n">Binds</th>
              <th class="n">Fail</th>
              <th class="n">Not known</th>
              <th class="n">Grace</th>
              <th class="n">Waived</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="r in rules" :key="r.rule">
              <td>
                <router-link :to="`/rules/${r.rule}`">{{ r.title || r.rule }}</router-link>
                <div class="soft small">{{ r.rule }}<template v-if="r.shadow">, shadow</template></div>
              </td>
              <td class="n">
                <strong>{{ num(r.binding, '·') }}</strong>
              </td>
              <td v-for="v in verdicts" :key="v" class="n">
                <router-link v-if="r[v] > 0" :to="{ name: 'devices', query: { rule: r.rule, verdict: v } }">{{
                  num(r[v])
                }}</router-link>
                <template v-else>·</template>
              </td>
            </tr>
          </tbody>
        </table>
      </section>
      <section>
        <h2>Fell in the last day</h2>
        <p v-if="fleet.dropped.length === 0" class="soft">No device.</p>
        <table v-else class="ruled">
          <tbody>
            <tr v-for="d in fleet.dropped" :key="d.device">
              <td>
                <router-link :to="{ name: 'device', params: { id: d.device } }">{{ d.name || d.device }}</router-link>
                <div class="soft small">{{ d.held[0] }}</div>
              </td>
              <td><LevelMark :level="d.level" :rank="d.rank" :top="d.top" /></td>
              <td class="soft small"><TimeText :time="d.since" /></td>
            </tr>
          </tbody>
        </table>
        <h2>Ends within a week</h2>
        <p v-if="fleet.ending.length === 0" class="soft">Nothing.</p>
        <table v-else class="ruled">
          <tbody>
            <tr v-for="e in fleet.ending.slice(0, 12)" :key="e.kind + e.id">
              <td>
                {{ e.kind }}
                <div class="soft small about">{{ e.about || e.id }}</div>
              </td>
              <td>
                <router-link v-if="e.device" :to="{ name: 'device', params: { id: e.device } }">{{
                  e.device
                }}</router-link>
              </td>
              <td class="soft small"><TimeText :time="e.until" /></td>
            </tr>
          </tbody>
        </table>
        <p v-if="fleet.ending_total > 12" class="soft small">
          and {{ fleet.ending_total - 12 }} more; <router-link to="/exceptions">see all exceptions</router-link>
        </p>
      </section>
    </div>
  </div>
</template>

<style scoped>
header {
  display: flex;
  align-items: baseline;
  gap: 36px;
  flex-wrap: wrap;
  border-bottom: 1px solid var(--rule-strong);
  padding-bottom: 6px;
  margin-bottom: 12px;
}
.levels {
  display: flex;
  flex-wrap: wrap;
  gap: 24px;
  list-style: none;
  padding: 0;
  margin: 0;
}
.levels a {
  display: inline-flex;
  gap: 8px;
  align-items: center;
  text-decoration: none;
}
.notice {
  border-left: 3px solid var(--metal);
  padding-left: 12px;
}
.charts {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 36px;
  margin: 18px 0 0;
}
.charts > div {
  position: relative;
}
.spans {
  position: absolute;
  right: 0;
  top: -4px;
  z-index: 1;
}
.columns {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
  gap: 36px;
}
.n {
  text-align: right;
  width: 70px;
}
.about {
  max-width: 210px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.empty {
  padding: 60px 0;
}
@media (max-width: 1000px) {
  .charts,
  .columns {
    grid-template-columns: minmax(0, 1fr);
  }
}
@media (max-width: 820px) {
  .spans {
    position: static;
  }
}
@media (max-width: 820px) {
  .levels {
    gap: 6px 16px;
  }
}
</style>
