<script setup lang="ts">
// What went wrong, where, and what was expected.
import type { Problem } from '../api/client'

defineProps<{ problem: Problem }>()
defineEmits<{ again: [] }>()
</script>

<template>
  <div class="problem" role="alert">
    <strong v-if="problem.type !== 'about:blank'">{{ problem.title }}</strong>
    <p>{{ problem.detail }}</p>
    <pre v-if="problem.excerpt">{{ problem.excerpt }}</pre>
    <el-button v-if="problem.status === 0 || problem.status >= 500" size="small" @click="$emit('again')"
      >Try again</el-button
    >
  </div>
</template>

<style scoped>
.problem {
  border-left: 3px solid var(--metal);
  background: var(--metal-soft);
  padding: 10px 16px;
  margin: 12px 0;
}
p {
  margin: 2px 0 4px;
}
</style>
