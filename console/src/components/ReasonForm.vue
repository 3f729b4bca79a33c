<script setup lang="ts">
// Asks for the reason of an act that people will want to know of later.
import { ref } from 'vue'
import ProblemNote from './ProblemNote.vue'
import { useAct } from '../composables/useAct'

const props = defineProps<{ label: string, what: (reason: string) => Promise<unknown> }>()
const emit = defineEmits<{ done: [], cancel: [] }>()
const reason = ref('')
const { busy, problem, act } = useAct()

async function submit() {
  if (await act(() => props.what(reason.value))) emit('done')
}
</script>

<template>
  <form class="reason" @submit.prevent="submit" @keydown.esc="$emit('cancel')">
    <el-input v-model="reason" name="reason" placeholder="Why? Everybody who looks here reads it." aria-label="Reason" autofocus />
    <el-button type="primary" native-type="submit" :loading="busy" :disabled="reason.trim() === ''">{{ label }}</el-button>
    <el-button link @click="$emit('cancel')">Leave it</el-button>
  </form>
  <ProblemNote v-if="problem" :problem="problem" />
</template>

<style scoped>
.reason { display: flex; gap: 8px; margin: 6px 0; max-width: 620px; }
</style>
