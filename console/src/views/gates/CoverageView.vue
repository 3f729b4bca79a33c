<script setup lang="ts">
import { computed } from 'vue'
import { api, must, type Coverage } from '../../api/client'
import ProblemNote from '../../components/ProblemNote.vue'
import { useLoad } from '../../composables/useLoad'
import { useQuery } from '../../composables/useQuery'

type Cell = Coverage['cells'][number][number]

const { query, set } = useQuery('group', 'resource')
const { data, problem, loading, again } = useLoad(
  async () => ({
    map: await must(api.GET('/api/v1/coverage')),
    ladder: (await must(api.GET('/api/v1/vocabulary'))).ladder,
  }),
  () => null,
)
const noGroup = '(no group)'

const strength = (c: Cell) =>
  c.level ? (data.value?.ladder.indexOf(c.level) ?? 0) / Math.max(1, (data.value?.ladder.length ?? 2) - 1) : 0
function text(c: Cell): string {
  if (c.kind === 'open') return 'OPEN'
  if (c.kind === 'closed') return '·'
  return (c.level ?? 'any') + (c.mfa ? ' +f' : '') + (c.more ? ' *' : '')
}
const chosen = computed(() => {
  const m = data.value?.map
  if (!m || !query.value.resource) return null
  const i = m.groups.indexOf(query.value.group === noGroup ? '' : query.value.group)
  const j = m.resources.indexOf(query.value.resource)
  return i < 0 || j < 0 ? null : m.cells[i]![j]!
})
const choose = (group: string, resource: string) => set({ group: group || noGroup, resource })
</script>

<template>
  <p class="soft">
    What it takes for a member of each group to reach each resource: the least level under which any request gets
    through, <strong>+f</strong> where none does without a second factor, <strong>*</strong> where not every request
    with these does. A dot: nobody gets through. OPEN: no gate guards it.
    <a href="/api/v1/coverage?format=csv" download>Save as CSV</a>
  </p>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-else-if="!data && loading" :rows="8" animated />
  <template v-else-if="data">
    <p v-if="data.map.resources.length === 0" class="soft">The rulebook in force lists no resources.</p>
    <div class="scroll">
      <table class="map">
        <thead>
          <tr>
            <th />
            <th v-for="r in data.map.resources" :key="r">{{ r }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(g, i) in data.map.groups" :key="g">
            <th>{{ g || noGroup }}</th>
            <td
              v-for="(c, j) in data.map.cells[i]"
              :key="j"
              :class="[c.kind, { chosen: c === chosen }]"
              :style="{ '--strength': `${Math.round(strength(c) * 34) + 4}%` }"
            >
              <button
                type="button"
                :aria-label="`${g || noGroup} to ${data.map.resources[j]}: ${text(c)}`"
                @click="choose(g, data.map.resources[j]!)"
              >
                {{ text(c) }}
              </button>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <section v-if="chosen" class="detail" aria-live="polite">
      <h2>{{ query.group }} to {{ query.resource }}</h2>
      <p v-if="chosen.kind !== 'guarded'">
        {{
          chosen.kind === 'open'
            ? 'No enforced gate speaks of it, and the rulebook allows what is unmatched: everybody gets through.'
            : 'No enforced gate speaks of it, and the rulebook denies what is unmatched: nobody gets through.'
        }}
      </p>
      <table v-if="chosen.gates?.length" class="ruled">
        <thead>
          <tr>
            <th>No</th>
            <th>Gate</th>
            <th>Needs</th>
            <th>Speaks of</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="g in chosen.gates" :key="g.gate">
            <td>
              <strong>{{ g.number }}</strong>
            </td>
            <td>{{ g.gate }}<span v-if="g.shadow" class="soft small"> shadow, no effect</span></td>
            <td>
              <code>{{ g.need }}</code>
            </td>
            <td>
              {{ g.actions?.length ? g.actions.join(', ') : 'every action'
              }}<span v-if="g.when" class="soft small">
                when <code>{{ g.when }}</code></span
              >
            </td>
          </tr>
        </tbody>
      </table>
      <p>
        <router-link :to="{ name: 'ask-who', query: { resource: query.resource } }"
          >Who reaches {{ query.resource }} now, and with which devices?</router-link
        >
      </p>
    </section>
    <h2>Platforms</h2>
    <table class="ruled platforms">
      <thead>
        <tr>
          <th>Platform</th>
          <th class="right">Devices</th>
          <th>Baselines that can apply</th>
          <th>Gates it can never pass</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="p in data.map.platforms" :key="p.platform">
          <td>
            <router-link v-if="p.devices" :to="{ name: 'devices', query: { where: `platform == ${p.platform}` } }">{{
              p.platform
            }}</router-link><template v-else>{{ p.platform }}</template>
          </td>
          <td class="right">{{ p.devices || '·' }}</td>
          <td>
            <template v-if="p.baselines.length">{{ p.baselines.join(', ') }}</template>
            <strong v-else class="bad">none: its devices count as uncovered</strong>
          </td>
          <td>{{ p.never.join(', ') || '·' }}</td>
        </tr>
      </tbody>
    </table>
  </template>
</template>

<style scoped>
.scroll {
  overflow-x: auto;
}
.map {
  border-collapse: collapse;
}
.map th {
  text-align: left;
  font-weight: 400;
  padding: 5px 14px 5px 0;
  white-space: nowrap;
}
.map thead th {
  font-size: 13px;
  color: var(--ink-soft);
  border-bottom: 1px solid var(--rule-strong);
  padding: 5px 10px;
}
.map td {
  border: 1px solid var(--rule);
  padding: 0;
}
.map td button {
  width: 100%;
  min-width: 84px;
  padding: 7px 10px;
  border: 0;
  background: none;
  color: inherit;
  font: inherit;
  text-align: left;
  cursor: pointer;
  white-space: nowrap;
}
.guarded {
  background: color-mix(in srgb, var(--ink) var(--strength), var(--sheet));
}
.closed {
  color: var(--ink-soft);
  background: repeating-linear-gradient(
    135deg,
    transparent 0 5px,
    color-mix(in srgb, var(--rule) 50%, transparent) 5px 6px
  );
}
.open {
  color: var(--sheet);
  background: var(--metal);
  font-weight: 700;
}
.chosen {
  outline: 3px solid var(--metal);
  outline-offset: -1px;
}
.detail {
  border-left: 3px solid var(--metal);
  padding-left: 16px;
  margin-top: 18px;
}
.right {
  text-align: right;
}
.platforms {
  max-width: 900px;
}
.bad {
  color: var(--metal);
}
</style>
