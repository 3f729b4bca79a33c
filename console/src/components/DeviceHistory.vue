<script setup lang="ts">
// A device's levels over time as a strip, and what happened, newest first.
import { computed, ref } from 'vue'
import { api, must, type HistoryEvent } from '../api/client'
import { full } from '../composables/format'
import { useLoad } from '../composables/useLoad'
import ProblemNote from './ProblemNote.vue'
import TimeText from './TimeText.vue'

const props = defineProps<{ id: string; ladder: number; version: string }>()
const { data, problem, loading, again } = useLoad(
  () => must(api.GET('/api/v1/devices/{id}/history', { params: { path: { id: props.id }, query: { limit: 200 } } })),
  () => [props.id, props.version],
)
const shown = ref(6)
const changes = computed(() =>
  (data.value?.items ?? []).filter(
    (e) => e.kind === 'standing.changed' && e.rank !== undefined && e.body.from !== e.body.to,
  ),
)
const height = 44

/** The stretches between changes of level, oldest first, as parts of the width. */
const stretches = computed(() => {
  const list = [...changes.value].reverse()
  if (list.length === 0) return []
  const start = Date.parse(list[0]!.at)
  const span = Math.max(1, Date.now() - start)
  return list.map((e, i) => {
    const from = (Date.parse(e.at) - start) / span
    const to = i + 1 < list.length ? (Date.parse(list[i + 1]!.at) - start) / span : 1
    return { from, width: Math.max(0.002, to - from), rank: e.rank!, level: e.body.to ?? '', at: e.at }
  })
})
const step = computed(() => height / Math.max(1, props.ladder))

function headline(e: HistoryEvent): string {
  const b = e.body
  if (e.kind !== 'standing.changed') return `${e.kind.replace('.', ' ')}${b.rule ? ` for ${b.rule}` : ''}`
  if (!b.from) return `first seen, stands at ${b.to}`
  return b.from === b.to ? `stays at ${b.to}` : `${b.from} → ${b.to}`
}
</script>

<template>
  <section>
    <h2>History</h2>
    <ProblemNote v-if="problem" :problem="problem" @again="again" />
    <el-skeleton v-else-if="!data && loading" :rows="3" animated />
    <template v-else-if="data">
      <figure v-if="stretches.length > 0">
        <svg
          :viewBox="`0 0 1000 ${height}`"
          preserveAspectRatio="none"
          role="img"
          :aria-label="`Levels over time: ${stretches.map((s) => s.level).join(', then ')}`"
        >
          <line v-for="i in ladder - 1" :key="i" x1="0" x2="1000" :y1="i * step" :y2="i * step" class="rule" />
          <rect
            v-for="s in stretches"
            :key="s.at"
            :x="s.from * 1000"
            :width="s.width * 1000"
            :y="height - (s.rank + 1) * step"
            :height="(s.rank + 1) * step"
            :class="{ top: s.rank === ladder - 1, bottom: s.rank === 0 }"
          >
            <title>{{ s.level }} from {{ full(s.at) }}</title>
          </rect>
        </svg>
        <figcaption class="soft small"><TimeText :time="stretches[0]!.at" /><span>now</span></figcaption>
      </figure>
      <ol>
        <li v-for="e in data.items.slice(0, shown)" :key="e.seq">
          <p class="when"><TimeText :time="e.at" /></p>
          <div>
            <p>
              <strong>{{ headline(e) }}</strong>
              <span class="soft small beside"
                >{{ [e.body.cause, e.actor].filter(Boolean).join(', ')
                }}<template v-if="e.body.cause === 'rulebook'">, version {{ e.body.rulebook }}</template
                >; <router-link :to="{ name: 'entry', params: { seq: e.seq } }">entry {{ e.seq }}</router-link></span
              >
            </p>
            <p v-if="e.kind === 'device.keyed'" class="small">{{ e.gist }}</p>
            <p v-if="e.body.reason" class="small">
              {{ e.body.reason }}<template v-if="e.body.until">, until {{ full(e.body.until) }}</template>
            </p>
            <p v-for="c in e.body.changed" :key="c.rule" class="small">
              <code>{{ c.rule }}</code> {{ c.from }} → <strong>{{ c.to }}</strong><template v-if="c.why"
                >; {{ c.why }}</template
              >
            </p>
            <p v-for="c in e.body.evidence" :key="c.attribute" class="soft small">
              {{ c.source }} said {{ c.attribute }} {{ c.to }}<template v-if="c.from">, was {{ c.from }}</template>
            </p>
          </div>
        </li>
      </ol>
      <p v-if="data.items.length > shown">
        <el-button link type="primary" @click="shown += 50"
          >Show {{ Math.min(50, data.items.length - shown) }} earlier</el-button
        >
      </p>
      <p v-else-if="data.items.length === 0" class="soft">Nothing has happened to it.</p>
    </template>
  </section>
</template>

<style scoped>
figure {
  margin: 0 0 12px;
}
svg {
  width: 100%;
  height: 44px;
  display: block;
  border-bottom: 1px solid var(--rule-strong);
}
rect {
  fill: color-mix(in srgb, var(--ink-soft) 55%, var(--sheet));
}
rect.top {
  fill: var(--good);
}
rect.bottom {
  fill: var(--metal);
}
.rule {
  stroke: var(--rule);
  stroke-width: 1;
  vector-effect: non-scaling-stroke;
}
figcaption {
  display: flex;
  justify-content: space-between;
}
ol {
  list-style: none;
  padding: 0;
  margin: 0;
}
li {
  display: flex;
  gap: 18px;
  border-bottom: 1px solid var(--rule);
  padding: 6px 0;
}
li p {
  margin: 0;
}
li > div {
  min-width: 0;
  overflow-wrap: anywhere;
}
.when {
  width: 96px;
  flex: none;
}
</style>
