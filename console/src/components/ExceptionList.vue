<script setup lang="ts">
// Waivers, or vouches: each with what can be done about it.
import { num } from '../composables/format'
import { ref } from 'vue'
import { api, must, type Exception } from '../api/client'
import { ofFleet, useLoad } from '../composables/useLoad'
import { useTurns } from '../composables/useTurns'
import { useSession } from '../stores/session'
import CopyText from './CopyText.vue'
import PageTurns from './PageTurns.vue'
import ProblemNote from './ProblemNote.vue'
import ReasonForm from './ReasonForm.vue'
import TimeText from './TimeText.vue'

const { of, filter } = defineProps<{
  of: 'waivers' | 'vouches'
  filter: { state: string; within: string }
}>()
const session = useSession()
const [name, what] =
  of === 'waivers'
    ? ['Waivers', 'One rule is lifted for one device.']
    : ['Vouches', 'Somebody says that a device is genuine.']
const { cursor, forward, back } = useTurns(
  () => filter,
  (): string | undefined => data.value?.next,
)
const { data, problem, again } = useLoad(
  () => {
    const asked = { params: { query: { ...filter, cursor: cursor.value, limit: 50 } } }
    return of === 'waivers' ? must(api.GET('/api/v1/waivers', asked)) : must(api.GET('/api/v1/vouches', asked))
  },
  () => [filter, cursor.value],
  ofFleet,
)
const revoking = ref('')
const approving = ref('')
const approve = (g: Exception) => (reason: string) =>
  must(api.POST('/api/v1/waivers/{id}/approve', { params: { path: { id: g.id } }, body: { reason } }))
function approved() {
  approving.value = ''
  return again()
}
const revoke = (g: Exception) => (reason: string) => {
  const call = { params: { path: { id: g.id } }, body: { reason } }
  return g.rule
    ? must(api.POST('/api/v1/waivers/{id}/revoke', call))
    : must(api.POST('/api/v1/vouches/{id}/revoke', call))
}
function revoked() {
  revoking.value = ''
  return again()
}
</script>

<template>
  <section>
    <h2>
      {{ name }}<span v-if="data?.total" class="soft small beside">{{ num(data.total) }}</span>
    </h2>
    <ProblemNote v-if="problem" :problem="problem" @again="again" />
    <el-skeleton v-else-if="!data" :rows="4" animated />
    <p v-else-if="data.items.length === 0" class="soft">
      {{ what }} There is none{{ filter.state || filter.within ? ' of this kind' : '' }}; grant one on a device's page.
    </p>
    <table v-else class="ruled">
      <thead>
        <tr>
          <th>Ends</th>
          <th>Device</th>
          <th v-if="of === 'waivers'">Rule</th>
          <th>Reason</th>
          <th>By</th>
          <th />
        </tr>
      </thead>
      <tbody>
        <template v-for="g in data.items" :key="g.id">
          <tr :class="{ over: g.state !== 'live' && g.state !== 'asked' }">
            <td class="nowrap">
              <template v-if="g.state === 'live'"><TimeText :time="g.until" /></template>
              <template v-else-if="g.state === 'asked'"><strong>waits for a second person</strong></template>
              <template v-else>{{ g.state }} <TimeText :time="g.revoked_at ?? g.until" /></template>
            </td>
            <td>
              <router-link :to="{ name: 'device', params: { id: g.device } }">{{ g.device }}</router-link>
            </td>
            <td v-if="of === 'waivers'">
              <router-link v-if="g.rule" :to="`/rules/${g.rule}`"
                ><code>{{ g.rule }}</code></router-link
              >
              <div v-if="g.verdict === 'pass'" class="soft small">passes now: no longer needed</div>
              <div v-else-if="g.verdict === 'none'" class="soft small">the rule is gone, or does not apply</div>
            </td>
            <td class="why">
              {{ g.reason }}
              <div v-if="g.revoked" class="soft small">revoked by {{ g.revoked_by }}: {{ g.revoked }}</div>
            </td>
            <td>
              {{ g.author }}
              <div class="soft small"><TimeText :time="g.at" /></div>
              <div v-if="g.approved_by" class="soft small">approved by {{ g.approved_by }}: {{ g.approved }}</div>
            </td>
            <td class="right">
              <CopyText :text="g.id"><span /></CopyText>
              <el-button
                v-if="
                  g.state === 'asked' &&
                  g.author !== session.who?.name &&
                  session.can('POST /api/v1/waivers/{id}/approve')
                "
                link
                type="primary"
                @click="approving = g.id"
                >Approve</el-button
              >
              <el-button
                v-if="(g.state === 'live' || g.state === 'asked') && session.can('POST /api/v1/waivers/{id}/revoke')"
                link
                type="primary"
                @click="revoking = g.id"
                >Revoke</el-button
              >
            </td>
          </tr>
          <tr v-if="approving === g.id">
            <td :colspan="6">
              <ReasonForm label="Approve" :what="approve(g)" @done="approved" @cancel="approving = ''" />
            </td>
          </tr>
          <tr v-if="revoking === g.id">
            <td :colspan="6">
              <ReasonForm label="Revoke" :what="revoke(g)" @done="revoked" @cancel="revoking = ''" />
            </td>
          </tr>
        </template>
      </tbody>
    </table>
    <PageTurns :cursor="cursor" :next="data?.next" @back="back" @forward="forward" />
  </section>
</template>

<style scoped>
.over {
  color: var(--ink-soft);
}
.why {
  max-width: 460px;
}
.right {
  text-align: right;
  white-space: nowrap;
}
</style>
