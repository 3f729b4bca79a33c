<script setup lang="ts">
// The outcome of a decision: a shape and its word.
import type { Outcome } from '../api/client'

defineProps<{ outcome: Outcome; large?: boolean }>()
</script>

<template>
  <span class="outcome" :class="[outcome, { large }]">
    <svg viewBox="0 0 14 14" :width="large ? 20 : 13" :height="large ? 20 : 13" aria-hidden="true">
      <path v-if="outcome === 'allow'" d="M1.5 7.5 5.5 11.5 12.5 2.5" />
      <path v-else-if="outcome === 'deny'" d="M2 7H12" stroke-width="4" />
      <path v-else d="M1.5 12.5H5.5V8.5H9.5V4.5H13" />
    </svg>
    <span>{{ outcome }}</span>
  </span>
</template>

<style scoped>
.outcome {
  display: inline-flex;
  align-items: center;
  gap: 7px;
  white-space: nowrap;
}
path {
  fill: none;
  stroke: currentcolor;
  stroke-width: 2;
}
.allow {
  color: var(--good);
}
.deny {
  color: var(--metal);
  font-weight: 600;
}
.large {
  font-family: var(--serif);
  font-size: 24px;
  font-weight: 600;
}
</style>
