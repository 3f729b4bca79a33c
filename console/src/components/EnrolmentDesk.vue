<script setup lang="ts">
// Devices that asked to be known here: who waits, and what became of the others.
import { ref } from 'vue'
import { api, must } from '../api/client'
import { useLoad } from '../composables/useLoad'
import { useSession } from '../stores/session'
import ProblemNote from './ProblemNote.vue'
import ReasonForm from './ReasonForm.vue'
import TimeText from './TimeText.vue'

const session = useSession()
const all = ref(false)
const { data, problem, again } = useLoad(
  () => must(api.GET('/api/v1/enrolments', { params: { query: all.value ? {} : { state: 'held' } } })),
  () => all.value,
)
const settling = ref<{ id: string; admit: boolean } | null>(null)
const decide = (id: string, admit: boolean) => (reason: string) =>
  must(api.POST('/api/v1/enrolments/{id}/decide', { params: { path: { id } }, body: { admit, reason } }))
function done() {
  settling.value = null
  return again()
}
</script>

<template>
  <h2>
    Devices that ask to be taken in
    <el-button link type="primary" @click="all = !all">{{
      all ? 'Only those that wait' : 'All that ever asked'
    }}</el-button>
  </h2>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <p v-else-if="data && data.items.length === 0" class="soft">
    None waits. Whom the rulebook does not admit by itself is held here for a person.
  </p>
  <table v-else-if="data" class="ruled">
    <thead>
      <tr>
        <th>Asked</th>
        <th>Claims</th>
        <th>On the roster</th>
        <th>Stands</th>
        <th />
      </tr>
    </thead>
    <tbody>
      <template v-for="e in data.items" :key="e.id">
        <tr>
          <td>
            <TimeText :time="e.at" />
            <div class="soft small">{{ e.actor }}</div>
          </td>
          <td>
            <code>{{ e.claims.serial || e.claims.hardware_id || e.claims.id }}</code> {{ e.claims.name }}
            <div class="soft small">
              {{ [e.claims.platform, e.claims.form, e.claims.ownership, e.claims.owner].filter(Boolean).join(', ') }}
            </div>
          </td>
          <td>
            {{ e.on_roster ? 'yes' : 'no' }}
            <div class="soft small">{{ e.proven ? 'proven by its certificate' : 'nothing proves it' }}</div>
          </td>
          <td>
            <strong>{{ e.state }}</strong>
            <router-link v-if="e.state === 'enrolled' && e.device" :to="{ name: 'device', params: { id: e.device } }">{{
              e.device
            }}</router-link>
            <div class="soft small">{{ e.decided_by ? `${e.decided_by}: ${e.reason}` : e.why }}</div>
          </td>
          <td class="right">
            <template v-if="e.state === 'held' && session.can('POST /api/v1/enrolments/{id}/decide')">
              <el-button size="small" @click="settling = { id: e.id, admit: true }">Take in</el-button>
              <el-button link size="small" @click="settling = { id: e.id, admit: false }">Refuse</el-button>
            </template>
          </td>
        </tr>
        <tr v-if="settling?.id === e.id">
          <td :colspan="5">
            <ReasonForm
              :label="settling.admit ? 'Take it in' : 'Refuse it'"
              :what="decide(e.id, settling.admit)"
              @done="done"
              @cancel="settling = null"
            />
          </td>
        </tr>
      </template>
    </tbody>
  </table>
</template>

<style scoped>
.right {
  text-align: right;
  white-space: nowrap;
}
</style>
