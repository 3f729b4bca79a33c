<script setup lang="ts">
// Makes a code by which one device can ask for a certificate, and shows it once.
import { computed, onMounted, shallowRef } from 'vue'
import { api, must, type Invitation } from '../api/client'
import { useAct } from '../composables/useAct'
import CopyText from './CopyText.vue'
import ProblemNote from './ProblemNote.vue'
import TimeText from './TimeText.vue'

const props = defineProps<{ device: string }>()
defineEmits<{ done: [] }>()
const made = shallowRef<Invitation | null>(null)
const { busy, problem, act } = useAct()
const make = () =>
  act(async () => {
    made.value = await must(
      api.POST('/api/v1/devices/{id}/invite', { params: { path: { id: props.device } }, body: {} }),
    )
  })
onMounted(make)
// What a device enrols with.
const line = computed(() => {
  const x = made.value
  if (!x?.service) return ''
  const parts = [`--service ${x.service}`, `--device ${x.device}`, `--code ${x.code}`]
  if (x.fingerprint) parts.push(`--fingerprint ${x.fingerprint}`)
  return `ironledger agent enrol ${parts.join(' \\\n  ')}`
})
</script>

<template>
  <section class="invite" aria-live="polite">
    <p v-if="busy" class="soft">A code is made…</p>
    <template v-else-if="made">
      <p>
        With this code {{ made.device }} can ask for a certificate, once; it ends <TimeText :time="made.until" />. It is
        shown this once:
      </p>
      <p class="code">
        <CopyText :text="made.code"
          ><code>{{ made.code }}</code></CopyText
        >
      </p>
      <template v-if="made.service">
        <p class="soft small">On the device, as whoever may write its agent's folder:</p>
        <CopyText :text="line">
          <pre class="line">{{ line }}</pre>
        </CopyText>
      </template>
      <p class="soft small">
        A code that was made before counts no more, and this one is void after five wrong ones.
        <el-button link @click="$emit('done')">Done</el-button>
      </p>
    </template>
    <ProblemNote v-if="problem" :problem="problem" @again="make" />
  </section>
</template>

<style scoped>
.invite {
  border-left: 3px solid var(--metal);
  margin: 12px 0;
  padding: 2px 14px;
}
.line {
  margin: 4px 0;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  font-size: 13px;
}
.code {
  font-size: 22px;
  letter-spacing: 1px;
}
</style>
