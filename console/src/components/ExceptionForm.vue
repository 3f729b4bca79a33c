<script setup lang="ts">
// Grants a waiver for one rule, or with no rule vouches for the device.
import { reactive } from 'vue'
import { api, must } from '../api/client'
import { useAct } from '../composables/useAct'
import ProblemNote from './ProblemNote.vue'

const props = defineProps<{ device: string; rule?: string }>()
const emit = defineEmits<{ done: []; cancel: [] }>()
const form = reactive({ reason: '', for: '7d' })
const spans = ['1d', '3d', '7d', '14d', '30d']
const { busy, problem, act } = useAct()

async function submit() {
  const body = { device: props.device, reason: form.reason, for: form.for, ...(props.rule && { rule: props.rule }) }
  const done = await act(() =>
    props.rule ? must(api.POST('/api/v1/waivers', { body })) : must(api.POST('/api/v1/vouches', { body })),
  )
  if (done) emit('done')
}
</script>

<template>
  <form class="grant" @submit.prevent="submit" @keydown.esc="$emit('cancel')">
    <p class="small">
      <template v-if="rule"
        >Waive <code>{{ rule }}</code> for {{ device }}</template
      ><template v-else>Vouch that {{ device }} is genuine</template> for
      <el-select v-model="form.for" size="small" aria-label="How long" class="span" allow-create filterable>
        <el-option v-for="s in spans" :key="s" :value="s" :label="s"
      /></el-select>
    </p>
    <el-input
      v-model="form.reason"
      name="reason"
      placeholder="Why? Everybody who sees the device reads it."
      aria-label="Reason"
      type="textarea"
      :rows="2"
      autofocus
    />
    <p class="buttons">
      <el-button
        type="primary"
        native-type="submit"
        size="small"
        :loading="busy"
        :disabled="form.reason.trim() === ''"
        >{{ rule ? 'Waive' : 'Vouch' }}</el-button><el-button link size="small" @click="$emit('cancel')"
        >Leave it</el-button
      >
    </p>
    <ProblemNote v-if="problem" :problem="problem" />
  </form>
</template>

<style scoped>
.grant {
  border-left: 2px solid var(--metal);
  padding: 4px 0 4px 14px;
  margin: 8px 0;
  max-width: 460px;
}
.span {
  width: 90px;
}
.buttons {
  margin: 8px 0 0;
}
</style>
