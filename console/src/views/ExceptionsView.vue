<script setup lang="ts">
import ExceptionList from '../components/ExceptionList.vue'
import { useQuery } from '../composables/useQuery'

const { query, set } = useQuery('state', 'within')
const choices = [
  { state: '', within: '', label: 'All' },
  { state: 'asked', within: '', label: 'Waiting for a second person' },
  { state: 'live', within: '', label: 'Live' },
  { state: '', within: '7d', label: 'Ends within a week' },
  { state: 'ended', within: '', label: 'Ended' },
  { state: 'revoked', within: '', label: 'Revoked' },
]
</script>

<template>
  <h1>Exceptions</h1>
  <p class="choices">
    <el-button
      v-for="c in choices"
      :key="c.label"
      link
      :type="query.state === c.state && query.within === c.within ? 'primary' : 'default'"
      @click="set({ state: c.state, within: c.within })"
      >{{ c.label }}</el-button
    >
  </p>
  <ExceptionList of="waivers" :filter="query" />
  <ExceptionList of="vouches" :filter="query" />
</template>

<style scoped>
.choices {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 14px;
  margin: 10px 0 0;
}
.choices .el-button + .el-button {
  margin-left: 0;
}
</style>
