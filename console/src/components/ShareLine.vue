<script setup lang="ts">
// Shares over periods as a line, from the least of all that are compared at the bottom to all at the top; gaps where
// nothing is told.
import { computed } from 'vue'

const props = defineProps<{ shares: (number | null)[]; least: number }>()
const width = 120
const height = 26
const points = computed(() =>
  props.shares.map((s, i) => ({
    x: props.shares.length < 2 ? width / 2 : 3 + (i * (width - 6)) / (props.shares.length - 1),
    y: s === null ? null : 3 + ((1 - s) / Math.max(1 - props.least, 0.001)) * (height - 6),
  })),
)
const runs = computed(() => {
  const out: string[] = []
  let run: string[] = []
  for (const p of [...points.value, { x: 0, y: null }]) {
    if (p.y !== null) run.push(`${p.x.toFixed(1)},${p.y.toFixed(1)}`)
    else if (run.length > 0) {
      out.push(run.join(' '))
      run = []
    }
  }
  return out
})
const last = computed(() => points.value.at(-1))
</script>

<template>
  <svg :viewBox="`0 0 ${width} ${height}`" :width="width" :height="height" aria-hidden="true">
    <line x1="0" :y1="height - 3" :x2="width" :y2="height - 3" class="ground" />
    <polyline v-for="r in runs" :key="r" :points="r" />
    <circle v-if="last && last.y !== null" :cx="last.x" :cy="last.y" r="2.5" />
  </svg>
</template>

<style scoped>
.ground {
  stroke: var(--rule);
}
polyline {
  fill: none;
  stroke: var(--ink);
  stroke-width: 1.5;
}
circle {
  fill: var(--metal);
}
</style>
