<script setup lang="ts">
// A level: a small stack of bars, as many filled as its place on the ladder,
// and always its word. Colour only helps.
import { computed } from 'vue'

const props = defineProps<{ level: string; rank: number; top: number; large?: boolean }>()
const bars = computed(() => Array.from({ length: props.top }, (_, i) => i < props.rank))
const tone = computed(() => (props.rank === props.top ? 'top' : props.rank === 0 ? 'bottom' : 'between'))
</script>

<template>
  <span class="mark" :class="[tone, { large }]">
    <svg :viewBox="`0 0 ${top * 5} 14`" :width="top * (large ? 7.5 : 5)" :height="large ? 21 : 14" aria-hidden="true">
      <rect
        v-for="(filled, i) in bars"
        :key="i"
        :x="i * 5 + 0.5"
        :y="10 - i * (9 / Math.max(1, top - 1))"
        width="3.4"
        :height="3.5 + i * (9 / Math.max(1, top - 1))"
        :class="filled ? 'filled' : 'empty'"
      />
    </svg>
    <span class="word">{{ level }}</span>
  </span>
</template>

<style scoped>
.mark {
  display: inline-flex;
  align-items: center;
  gap: 8px;
  white-space: nowrap;
}
.filled {
  fill: var(--ink);
}
.empty {
  fill: none;
  stroke: var(--ink-soft);
  stroke-width: 0.8;
}
.top .filled {
  fill: var(--good);
}
.bottom .empty {
  stroke: var(--metal);
  stroke-width: 1.2;
}
.bottom .word {
  color: var(--metal);
  font-weight: 600;
}
.large .word {
  font-family: var(--serif);
  font-size: 22px;
  font-weight: 600;
}
</style>
