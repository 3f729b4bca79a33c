<script setup lang="ts">
// The networks that devices join: what an admission carries, who is there now, and
// which access points ask.
import { computed } from 'vue'
import { api, must, type Granted } from '../api/client'
import AccessPoints from '../components/AccessPoints.vue'
import CopyText from '../components/CopyText.vue'
import LevelMark from '../components/LevelMark.vue'
import PersonName from '../components/PersonName.vue'
import ProblemNote from '../components/ProblemNote.vue'
import TimeText from '../components/TimeText.vue'
import { count, span } from '../composables/format'
import { ofKinds, useLoad } from '../composables/useLoad'
import { useQuery } from '../composables/useQuery'

const page = 50
const { query, set } = useQuery('network', 'grant', 'device', 'untold', 'cursor')
const touched = ofKinds('stay.', 'standing.', 'decision.', 'rulebook.', 'access-point.')
const {
  data: networks,
  problem,
  loading,
  again,
} = useLoad(
  () => must(api.GET('/api/v1/networks')),
  () => null,
  touched,
)
const {
  data: stays,
  problem: unlisted,
  again: list,
} = useLoad(
  () => {
    const { network, grant, device, untold, cursor } = query.value
    return must(
      api.GET('/api/v1/networks/stays', {
        params: {
          query: {
            ...(network && { network }),
            ...(grant && { grant }),
            ...(device && { device }),
            ...(untold && { untold: true }),
            ...(cursor && { cursor }),
            limit: page,
          },
        },
      }),
    )
  },
  () => query.value,
  touched,
)
const narrowed = computed(() =>
  [
    query.value.network && `on ${query.value.network}`,
    query.value.grant && `with the grant ${query.value.grant}`,
    query.value.device && `of ${query.value.device}`,
    query.value.untold && 'of which the access point could not be told',
  ].filter(Boolean),
)
const granted = (g?: Granted) => (g ? [g.vlan && `VLAN ${g.vlan}`, g.filter].filter(Boolean).join(', ') : '')
const persons: Record<string, string> = {
  owner: 'the owner of the device',
  certificate: 'whom its certificate names',
  identity: 'whom the device names, which nobody proves',
}
</script>

<template>
  <h1>Networks</h1>
  <p class="soft">
    What an admission carries: the first grant whose condition is true, once gates have let the device through. When
    that changes, its access point is told at once.
  </p>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-if="!networks && loading" :rows="6" animated />
  <p v-else-if="networks && networks.items.length === 0" class="empty">
    The rulebook has no section <code>networks</code>: nothing is granted to devices that ask by RADIUS.
  </p>
  <section v-for="n in networks?.items ?? []" :key="n.id">
    <h2>
      <router-link :to="{ name: 'ask', query: { resource: n.id, action: 'join' } }">{{ n.title || n.id }}</router-link>
      <span class="soft small">
        <template v-if="n.ssids?.length">called {{ n.ssids.join(', ') }}; </template>the person is
        {{ persons[n.person] }}
        <CopyText :text="n.id"
          ><code class="beside">{{ n.id }}</code></CopyText
        >
      </span>
    </h2>
    <div class="scrolls">
      <table class="ruled">
        <thead>
          <tr>
            <th>Grant</th>
            <th>When</th>
            <th>VLAN</th>
            <th>Filter</th>
            <th>For</th>
            <th class="number">There</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="g in n.grants" :key="g.id">
            <td>
              <strong>{{ g.id }}</strong>
              <div v-if="g.recover" class="soft small">to get well in</div>
            </td>
            <td>
              <code>{{ g.when }}</code>
            </td>
            <td>{{ g.vlan }}</td>
            <td>{{ g.filter }}</td>
            <td>{{ span(g.session_seconds) }}</td>
            <td class="number">
              <el-button
                v-if="g.stays"
                link
                type="primary"
                @click="set({ network: n.id, grant: g.id, untold: '', cursor: '' })"
                >{{ g.stays }}</el-button><span v-else class="soft">·</span>
            </td>
          </tr>
          <tr>
            <td class="soft">otherwise</td>
            <td colspan="5" class="soft">reject</td>
          </tr>
        </tbody>
      </table>
    </div>
    <p v-if="n.untold" class="untold">
      Of
      <el-button link type="primary" @click="set({ network: n.id, grant: '', untold: '1', cursor: '' })">{{
        count(n.untold, 'device')
      }}</el-button>
      the access point could not be told what is granted now. It is told again until then, and lets nobody stay for
      longer than it was told at first.
    </p>
  </section>

  <h2 id="there">Who is there</h2>
  <ProblemNote v-if="unlisted" :problem="unlisted" @again="list" />
  <p class="choices">
    <span v-if="stays" class="soft small"
      >{{ count(stays.total, 'device') }}<template v-if="narrowed.length"> {{ narrowed.join(', ') }}</template></span
    >
    <el-button
      v-if="narrowed.length"
      link
      type="primary"
      @click="set({ network: '', grant: '', device: '', untold: '', cursor: '' })"
      >Show all</el-button
    >
  </p>
  <div v-if="stays?.items.length" class="scrolls">
    <table class="ruled">
      <thead>
        <tr>
          <th>Device</th>
          <th>Granted</th>
          <th>Stands</th>
          <th>By</th>
          <th>Access point</th>
          <th>Since</th>
          <th>Until</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="s in stays.items" :key="s.id">
          <td>
            <router-link v-if="s.device" :to="{ name: 'device', params: { id: s.device } }">{{ s.device }}</router-link>
            <span v-else class="soft">not known here</span>
            <div v-if="s.person" class="small"><PersonName :id="s.person" /></div>
            <div class="soft small">
              <CopyText v-if="s.address" :text="s.address"
                ><code>{{ s.address }}</code></CopyText
              >
              {{ s.addresses?.join(', ') }}
            </div>
          </td>
          <td>
            <router-link :to="{ name: 'decision', params: { id: s.decision } }">{{
              s.granted?.grant ?? 'nothing'
            }}</router-link>
            <div class="soft small">{{ granted(s.granted) }}</div>
            <div v-if="s.untold_since" class="untold small">
              not told <TimeText :time="s.untold_since" />:
              {{ s.granting ? `${s.granting.grant}, ${granted(s.granting)}` : 'to leave' }} ({{ s.untold_why }})
            </div>
          </td>
          <td><LevelMark :level="s.level" :rank="s.rank" :top="s.top" /></td>
          <td>{{ s.proof }}</td>
          <td>
            {{ s.access_point }}
            <div v-if="s.port" class="soft small">port {{ s.port }}</div>
          </td>
          <td><TimeText :time="s.since" /></td>
          <td><TimeText :time="s.until" /></td>
        </tr>
      </tbody>
    </table>
  </div>
  <p v-else-if="stays && !unlisted" class="empty">Nobody{{ narrowed.length ? ', as it is narrowed' : '' }}.</p>
  <nav v-if="stays && (stays.next || query.cursor)" aria-label="Pages of the list">
    <el-button :disabled="!query.cursor" @click="set({ cursor: '' })">The newest</el-button>
    <el-button :disabled="!stays.next" @click="set({ cursor: stays.next ?? '' })">Next</el-button>
  </nav>

  <AccessPoints :networks="(networks?.items ?? []).map((n) => n.id)" />
</template>

<style scoped>
h2 .small {
  font: 14px var(--sans);
  margin-left: 10px;
}
.number {
  text-align: right;
}
.untold {
  color: var(--metal);
}
.choices {
  display: flex;
  gap: 14px;
  align-items: baseline;
}
.empty {
  padding: 18px 0;
}
</style>
