<script setup lang="ts">
// Asks for the reason of an act that people will want to know of later. With a
// preview it first tells what the act would do; one that would be held back as it
// locks people out goes on only all the same, for the reason.
import { onMounted, ref, shallowRef } from 'vue'
import { ProblemError, type Problem } from '../api/client'
import type { Preview } from '../composables/preview'
import ProblemNote from './ProblemNote.vue'
import { useAct } from '../composables/useAct'

const props = defineProps<{
  label: string
  what: (reason: string, anyway: boolean) => Promise<unknown>
  preview?: () => Promise<Preview>
}>()
const emit = defineEmits<{ done: []; cancel: [] }>()
const reason = ref('')
const told = shallowRef<Preview | null>(null)
const failed = shallowRef<Problem | null>(null)
const { busy, problem, act } = useAct()

async function look() {
  failed.value = null
  try {
    told.value = await props.preview!()
  } catch (e) {
    if (!(e instanceof ProblemError)) throw e
    failed.value = e.problem
  }
}
onMounted(() => (props.preview ? look() : undefined))

// What was not told yet is not accepted either: the service holds it back then.
async function submit() {
  if (await act(() => props.what(reason.value, Boolean(told.value?.held.length)))) emit('done')
}
</script>

<template>
  <div v-if="preview" class="small told" aria-live="polite">
    <p v-if="!told && !failed" class="soft">What it would do…</p>
    <template v-else-if="told">
      <p v-if="told.does.length + told.held.length === 0" class="soft">Nobody's access changes by it.</p>
      <ul v-else>
        <li v-for="text in told.held" :key="text" class="held">{{ text }}</li>
        <li v-for="text in told.does" :key="text">{{ text }}</li>
      </ul>
    </template>
    <ProblemNote v-else-if="failed" :problem="failed" @again="look" />
  </div>
  <form class="reason" @submit.prevent="submit" @keydown.esc="$emit('cancel')">
    <el-input
      v-model="reason"
      name="reason"
      placeholder="Why? Everybody who looks here reads it."
      aria-label="Reason"
      autofocus
    />
    <el-button type="primary" native-type="submit" :loading="busy" :disabled="reason.trim() === ''"
      >{{ label }}{{ told?.held.length ? ' all the same' : '' }}</el-button
    >
    <el-button link @click="$emit('cancel')">Leave it</el-button>
  </form>
  <ProblemNote v-if="problem" :problem="problem" />
</template>

<style scoped>
.reason {
  display: flex;
  gap: 8px;
  margin: 6px 0;
  max-width: 620px;
}
.told ul {
  margin: 4px 0;
  padding-left: 20px;
}
.held {
  color: var(--metal);
  font-weight: 600;
}
</style>
