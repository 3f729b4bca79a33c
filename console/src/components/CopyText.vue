<script setup lang="ts">
// A text that is often wanted elsewhere, with a button that copies it.
import { ref } from 'vue'

const props = defineProps<{ text: string }>()
const copied = ref(false)

async function copy() {
  await navigator.clipboard.writeText(props.text)
  copied.value = true
  setTimeout(() => (copied.value = false), 1500)
}
</script>

<template>
  <span class="copy"
    ><slot>{{ text }}</slot>
    <button type="button" :title="`Copy ${text}`" :aria-label="`Copy ${text}`" @click.stop="copy">
      <template v-if="copied">copied</template>
      <svg v-else viewBox="0 0 12 12" width="12" height="12" aria-hidden="true">
        <path d="M3.5 3.5V1H11V8.5H8.5M1 3.5H8.5V11H1Z" />
      </svg></button
  ></span>
</template>

<style scoped>
.copy {
  white-space: nowrap;
}
button {
  border: 0;
  background: none;
  color: var(--ink-soft);
  cursor: pointer;
  font: inherit;
  font-size: 13px;
  padding: 0 4px;
}
path {
  fill: none;
  stroke: currentcolor;
}
button:hover {
  color: var(--metal);
}
</style>
