<script setup lang="ts">
// A table that is fetched as a file: how far that has come is told, and it can be stopped. What breaks off is not saved.
import { onUnmounted, ref } from 'vue'
import { ProblemError } from '../api/client'
import { fetchTable, saveFile } from '../composables/files'
import { count } from '../composables/format'

const props = defineProps<{ href: string; name: string }>()
const rows = ref<number | null>(null)
const outcome = ref('')
const failed = ref(false)
let going: AbortController | null = null

async function start() {
  if (going) return
  const mine = (going = new AbortController())
  outcome.value = ''
  failed.value = false
  rows.value = 0
  try {
    const file = await fetchTable(props.href, mine.signal, (n) => (rows.value = n))
    saveFile(props.name, file)
    outcome.value = `Saved ${count(rows.value, 'row')}.`
  } catch (e) {
    failed.value = !mine.signal.aborted
    outcome.value = mine.signal.aborted
      ? 'Stopped; nothing is saved.'
      : e instanceof ProblemError
        ? e.problem.detail
        : 'It broke off; nothing is saved.'
  } finally {
    going = null
    rows.value = null
  }
}

onUnmounted(() => going?.abort())
</script>

<template>
  <span class="export" :class="{ failed }"
    ><span v-if="rows !== null" class="going" role="status"
      >{{ count(rows, 'row') }} so far
      <el-button link size="small" type="primary" @click="going?.abort()">Stop</el-button></span
    ><template v-else
      ><a :href="href" :download="name" @click.prevent="start"><slot>Save as CSV</slot></a>
      <span v-if="outcome" class="soft" :role="failed ? 'alert' : 'status'">{{ outcome }}</span></template
    ></span
  >
</template>

<style scoped>
.export {
  display: inline-flex;
  gap: 0 8px;
  white-space: nowrap;
}
.export.failed {
  flex-wrap: wrap;
  white-space: normal;
}
.going {
  font-variant-numeric: tabular-nums;
}
</style>
