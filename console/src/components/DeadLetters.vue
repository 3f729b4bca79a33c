<script setup lang="ts">
// The events that a receiver could not be told: why, and a way to send them again or to
// drop them.
import { ref } from 'vue'
import { api, must } from '../api/client'
import { useAct } from '../composables/useAct'
import { ofKinds, useLoad } from '../composables/useLoad'
import CopyText from './CopyText.vue'
import ProblemNote from './ProblemNote.vue'
import ReasonForm from './ReasonForm.vue'
import TimeText from './TimeText.vue'

const props = defineProps<{ stream: string; may: boolean }>()
const emit = defineEmits<{ changed: [] }>()
const params = { path: { id: props.stream } }
const { data, problem, again } = useLoad(
  () => must(api.GET('/api/v1/streams/{id}/letters', { params })),
  () => props.stream,
  ofKinds('stream.'),
)
const dropping = ref(false)
const said = ref('')
const { busy, problem: unsent, act } = useAct()

async function done(text: string) {
  said.value = text
  dropping.value = false
  await again()
  emit('changed')
}

/** Sends all of them again, and looks a moment later what became of them. */
async function resend() {
  const ok = await act(async () => {
    const r = await must(api.POST('/api/v1/streams/{id}/resend', { params, body: {} }))
    said.value = `${r.sent} on their way${r.dropped ? `, ${r.dropped} dropped: the receiver may not hear of them` : ''}.`
  })
  if (ok) setTimeout(() => void done(said.value), 1500)
}
const drop = (reason: string) => must(api.POST('/api/v1/streams/{id}/drop', { params, body: { reason } }))
</script>

<template>
  <section class="letters" aria-label="Events that were given up">
    <ProblemNote v-if="problem" :problem="problem" @again="again" />
    <ProblemNote v-if="unsent" :problem="unsent" />
    <p v-if="said" class="soft small" role="status">{{ said }}</p>
    <p v-if="data && data.items.length === 0" class="soft">None: the receiver has been told everything.</p>
    <template v-else-if="data">
      <table class="ruled">
        <thead>
          <tr>
            <th>Event</th>
            <th>Device</th>
            <th>Happened</th>
            <th>Given up</th>
            <th class="number">Tries</th>
            <th>Why</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="l in data.items" :key="l.id">
            <td>
              {{ l.event }}
              <div class="soft small">
                <CopyText :text="l.id"
                  ><code>{{ l.id }}</code></CopyText
                >
              </div>
            </td>
            <td>
              <router-link v-if="l.device" :to="{ name: 'device', params: { id: l.device } }">{{
                l.device
              }}</router-link>
            </td>
            <td>
              <router-link :to="{ name: 'entry', params: { seq: l.seq } }"><TimeText :time="l.at" /></router-link>
            </td>
            <td><TimeText :time="l.since" /></td>
            <td class="number">{{ l.attempts }}</td>
            <td>{{ l.why }}</td>
          </tr>
        </tbody>
      </table>
      <p v-if="may && !dropping">
        <el-button type="primary" :loading="busy" @click="resend">Send all again</el-button>
        <el-button link @click="dropping = true">Drop all…</el-button>
      </p>
      <ReasonForm v-if="dropping" label="Drop all" :what="drop" @done="done('Dropped.')" @cancel="dropping = false" />
    </template>
  </section>
</template>

<style scoped>
.letters {
  margin: 4px 0 12px 16px;
}
.number {
  text-align: right;
  font-variant-numeric: tabular-nums;
}
</style>
