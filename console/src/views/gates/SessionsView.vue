<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, must } from '../../api/client'
import PageTurns from '../../components/PageTurns.vue'
import PersonName from '../../components/PersonName.vue'
import ProblemNote from '../../components/ProblemNote.vue'
import ReasonForm from '../../components/ReasonForm.vue'
import TimeText from '../../components/TimeText.vue'
import { ofFleet, ofKinds, useLoad } from '../../composables/useLoad'
import { useSearch } from '../../composables/useSearch'
import { useSession } from '../../stores/session'

const {
  query,
  fields: form,
  search,
  forward,
  back,
} = useSearch(['person', 'device', 'resource'], (): string | undefined => data.value?.next)
const { data, problem, loading, again } = useLoad(
  () => must(api.GET('/api/v1/live-sessions', { params: { query: { ...query.value, limit: 50 } } })),
  () => query.value,
  (changes) => ofFleet(changes) || ofKinds('decision.', 'session.')(changes),
)
const session = useSession()
const ending = ref(false)
const said = computed(() => Object.fromEntries(Object.entries(query.value).filter(([k, v]) => v && k !== 'cursor')))
const whose = computed(() => Object.values(said.value).join(', '))
const end = (reason: string) => must(api.POST('/api/v1/live-sessions/end', { body: { ...said.value, reason } }))
function ended() {
  ending.value = false
  return again()
}
</script>

<template>
  <p class="soft">
    Allows that an enforcer may still rely on. One ends with the change that takes its ground, and a proxy that asks is
    refused from that moment.
  </p>
  <form class="search" @submit.prevent="search">
    <el-input v-model="form.person" name="person" placeholder="Person" aria-label="Person" clearable @clear="search" />
    <el-input v-model="form.device" name="device" placeholder="Device" aria-label="Device" clearable @clear="search" />
    <el-input
      v-model="form.resource"
      name="resource"
      placeholder="Resource"
      aria-label="Resource"
      clearable
      @clear="search"
    />
    <el-button native-type="submit" type="primary">Search</el-button>
    <el-button @click="again">Look again</el-button>
    <el-button
      v-if="session.can('POST /api/v1/live-sessions/end') && whose && data && data.items.length > 0"
      link
      @click="ending = !ending"
      >End these {{ data.total }}…</el-button
    >
  </form>
  <ReasonForm
    v-if="ending"
    :label="`End the sessions of ${whose}`"
    :what="end"
    @done="ended"
    @cancel="ending = false"
  />
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-else-if="!data && loading" :rows="6" animated />
  <p v-else-if="data && data.items.length === 0" class="soft">Nothing that was allowed still holds.</p>
  <table v-else-if="data" class="ruled">
    <thead>
      <tr>
        <th>Person</th>
        <th>Reaches</th>
        <th>From</th>
        <th>Level</th>
        <th>Since</th>
        <th>Until</th>
        <th>Enforcer</th>
        <th>Decision</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="s in data.items" :key="s.decision">
        <td><PersonName :id="s.person" :device="s.person === s.device" /></td>
        <td>
          {{ s.action }} <strong>{{ s.resource }}</strong>
        </td>
        <td>
          <router-link v-if="s.device" :to="{ name: 'device', params: { id: s.device } }">{{ s.device }}</router-link>
          <span v-else class="soft">unknown</span>
        </td>
        <td>{{ s.level }}</td>
        <td><TimeText :time="s.at" /></td>
        <td class="nowrap">{{ s.until.slice(0, 16).replace('T', ' ') }}</td>
        <td>{{ s.enforcer }}</td>
        <td>
          <router-link :to="{ name: 'decision', params: { id: s.decision } }"
            ><code>{{ s.decision }}</code>
          </router-link>
        </td>
      </tr>
    </tbody>
  </table>
  <PageTurns :cursor="query.cursor" :next="data?.next" @back="back" @forward="forward" />
</template>

<style scoped>
.search {
  display: flex;
  gap: 10px;
  margin: 14px 0 10px;
  max-width: 900px;
}
</style>
