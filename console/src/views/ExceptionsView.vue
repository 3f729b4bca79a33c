<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, must, type Exception } from '../api/client'
import CopyText from '../components/CopyText.vue'
import ProblemNote from '../components/ProblemNote.vue'
import ReasonForm from '../components/ReasonForm.vue'
import TimeText from '../components/TimeText.vue'
import { ofFleet, useLoad } from '../composables/useLoad'
import { useQuery } from '../composables/useQuery'
import { useSession } from '../stores/session'

const session = useSession()
const { query, set } = useQuery('state', 'within')
const { data, problem, loading, again } = useLoad(
  async () => {
    const filter = { params: { query: query.value } }
    const [waivers, vouches] = await Promise.all([
      must(api.GET('/api/v1/waivers', filter)),
      must(api.GET('/api/v1/vouches', filter)),
    ])
    return { waivers: waivers.items, vouches: vouches.items }
  },
  () => query.value,
  ofFleet,
)
const lists = computed(() =>
  data.value
    ? [
        { name: 'Waivers', what: 'One rule is lifted for one device.', items: data.value.waivers },
        { name: 'Vouches', what: 'Somebody says that a device is genuine.', items: data.value.vouches },
      ]
    : [],
)
const revoking = ref('')
const approving = ref('')
const approve = (g: Exception) => (reason: string) =>
  must(api.POST('/api/v1/waivers/{id}/approve', { params: { path: { id: g.id } }, body: { reason } }))
function approved() {
  approving.value = ''
  return again()
}
const choices = [
  { state: '', within: '', label: 'All' },
  { state: 'asked', within: '', label: 'Waiting for a second person' },
  { state: 'live', within: '', label: 'Live' },
  { state: '', within: '7d', label: 'Ends within a week' },
  { state: 'ended', within: '', label: 'Ended' },
  { state: 'revoked', within: '', label: 'Revoked' },
]

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
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-if="!data && loading" :rows="8" animated />
  <section v-for="l in lists" :key="l.name">
    <h2>
      {{ l.name }}<span v-if="l.items.length > 0" class="soft small beside">{{ l.items.length }}</span>
    </h2>
    <p v-if="l.items.length === 0" class="soft">
      {{ l.what }} There is none{{ query.state || query.within ? ' of this kind' : '' }}; grant one on a device's page.
    </p>
    <table v-else class="ruled">
      <thead>
        <tr>
          <th>Ends</th>
          <th>Device</th>
          <th v-if="l.name === 'Waivers'">Rule</th>
          <th>Reason</th>
          <th>By</th>
          <th />
        </tr>
      </thead>
      <tbody>
        <template v-for="g in l.items" :key="g.id">
          <tr :class="{ over: g.state !== 'live' && g.state !== 'asked' }">
            <td class="nowrap">
              <template v-if="g.state === 'live'"><TimeText :time="g.until" /></template>
              <template v-else-if="g.state === 'asked'"><strong>waits for a second person</strong></template>
              <template v-else>{{ g.state }} <TimeText :time="g.revoked_at ?? g.until" /></template>
            </td>
            <td>
              <router-link :to="{ name: 'device', params: { id: g.device } }">{{ g.device }}</router-link>
            </td>
            <td v-if="l.name === 'Waivers'">
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
  </section>
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
