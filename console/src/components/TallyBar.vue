<script setup lang="ts">
// How devices stand to a control, as a bar: each part has a pattern beside its colour, and the numbers stand near.
import { computed } from 'vue'
import type { ControlTally } from '../api/client'

const props = defineProps<{ of: ControlTally }>()
const parts = computed(() => {
  const { met, excepted, unknown, not_met } = props.of
  const all = met + excepted + unknown + not_met
  let x = 0
  return [
    { kind: 'met', n: met },
    { kind: 'excepted', n: excepted },
    { kind: 'unknown', n: unknown },
    { kind: 'not-met', n: not_met },
  ]
    .filter((p) => p.n > 0)
    .map((p) => {
      const part = { kind: p.kind, x: (100 * x) / all, width: (100 * p.n) / all }
      x += p.n
      return part
    })
})
const label = computed(
  () =>
    `${props.of.met} met, ${props.of.not_met} not met, ${props.of.unknown} not known, ${props.of.excepted} excepted`,
)
</script>

<template>
  <span class="bar" role="img" :aria-label="label" :title="label"
    ><i v-for="p in parts" :key="p.kind" :class="p.kind" :style="{ left: `${p.x}%`, width: `${p.width}%` }"
  /></span>
</template>

<style scoped>
.bar {
  display: inline-block;
  position: relative;
  width: 120px;
  height: 12px;
  border: 1px solid var(--rule-strong);
}
i {
  position: absolute;
  top: 0;
  bottom: 0;
}
.met {
  background: var(--good);
}
.excepted {
  background: radial-gradient(var(--metal) 1px, var(--metal-soft) 1.5px) 0 0 / 4px 4px;
}
.unknown {
  background: repeating-linear-gradient(45deg, var(--ink-soft) 0 2px, var(--sheet) 2px 4px);
}
.not-met {
  background: var(--metal);
}
</style>
