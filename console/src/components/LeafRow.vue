<script setup lang="ts">
// The cells that tell one deciding part of a condition: what was required,
// what was observed, by whom, and how old that was.
import type { Leaf } from '../api/client'

defineProps<{ leaf: Leaf }>()
</script>

<template>
  <td>
    <code>{{ leaf.condition }}</code>
  </td>
  <td class="observed">
    <template v-if="leaf.holds === 'unknown' && leaf.unknown"
      ><span class="soft">not known:</span> {{ leaf.unknown
      }}<span v-if="leaf.observed" class="soft"> (was {{ leaf.observed }})</span></template
    >
    <template v-else>{{ leaf.observed ?? 'not known' }}</template>
  </td>
  <td>{{ leaf.source }}</td>
  <td class="nowrap">{{ leaf.age }}</td>
</template>

<style scoped>
.observed {
  min-width: 110px;
  max-width: 340px;
  overflow-wrap: anywhere;
}
</style>
