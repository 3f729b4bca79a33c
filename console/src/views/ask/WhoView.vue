<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { api, must, type Reach } from '../../api/client'
import AskBar from '../../components/AskBar.vue'
import OutcomeMark from '../../components/OutcomeMark.vue'
import PageTurns from '../../components/PageTurns.vue'
import ProblemNote from '../../components/ProblemNote.vue'
import { evaluationOf } from '../../composables/asking'
import { count, num } from '../../composables/format'
import { useLoad } from '../../composables/useLoad'
import { usePages } from '../../composables/usePages'
import { useQuery } from '../../composables/useQuery'

const { query, set } = useQuery('resource', 'action', 'mfa', 'ip', 'all', 'q', 'cursor')
const form = ref({ ...query.value })
watch(query, (q) => {
  form.value = { ...q }
})
const { data: vocabulary } = useLoad(
  () => must(api.GET('/api/v1/vocabulary')),
  () => null,
)
const { data, problem, loading, again } = useLoad<Reach | null>(
  () =>
    query.value.resource
      ? must(
          api.POST('/api/v1/reach/people', {
            body: evaluationOf(query.value),
            params: {
              query: { q: query.value.q, through: !query.value.all, cursor: query.value.cursor, limit: 50 },
            },
          }),
        )
      : Promise.resolve(null),
  () => query.value,
)
const rows = computed(() => data.value?.items ?? [])
const { forward, back } = usePages(query, set, () => data.value?.next)
const ask = () => set({ ...form.value, mfa: form.value.mfa ?? '', cursor: '' })
const question = (person: string, device: string) => ({
  name: 'ask',
  query: {
    person,
    device,
    resource: query.value.resource,
    ...(query.value.action && { action: query.value.action }),
    ...(query.value.mfa && { mfa: query.value.mfa }),
    ...(query.value.ip && { ip: query.value.ip }),
  },
})
</script>

<template>
  <p class="soft">Everybody in the directory, from each device that is theirs, now. Nothing is recorded.</p>
  <form class="bar" @submit.prevent="ask">
    <el-select
      v-model="form.resource"
      name="resource"
      filterable
      placeholder="Resource"
      aria-label="Resource"
      class="resource"
      @change="ask"
      ><el-option v-for="r in vocabulary?.resources ?? []" :key="r.id" :value="r.id" :label="r.id"
        ><span
          >{{ r.id }} <span class="soft small">{{ r.title }}</span></span
        ></el-option
      ></el-select
    >
    <AskBar v-model="form" />
    <el-input
      v-model="form.q"
      name="q"
      clearable
      placeholder="Person or group"
      aria-label="Person or group"
      class="who"
    />
    <el-button type="primary" native-type="submit" :loading="loading" :disabled="!form.resource">Ask</el-button>
  </form>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <p v-else-if="!data" class="soft">Choose a resource.</p>
  <template v-else>
    <p class="sum">
      <strong>{{ num(data.allowed) }}</strong> of {{ count(data.people, 'person', 'people') }} get through from their
      best device, {{ num(data.stepped_up) }} more with a second factor.
      <el-button link type="primary" @click="set({ all: query.all ? '' : 'yes', cursor: '' })">{{
        query.all ? 'Only those who get through' : 'All of them'
      }}</el-button>
    </p>
    <table class="ruled">
      <thead>
        <tr>
          <th>Person</th>
          <th>Best</th>
          <th>Devices</th>
          <th>Otherwise</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="p in rows" :key="p.person">
          <td>
            <router-link :to="{ name: 'person', params: { id: p.person } }">{{ p.name || p.person }}</router-link>
            <div class="soft small">
              {{ p.person }}<template v-if="p.groups.length">, {{ p.groups.join(', ') }}</template>
            </div>
          </td>
          <td><OutcomeMark :outcome="p.best" /></td>
          <td>
            <p v-if="p.break_glass" class="metal">break-glass account</p>
            <p v-for="d in p.devices" :key="d.device" class="device">
              <OutcomeMark :outcome="d.outcome" />
              <router-link :to="question(p.person, d.device)">{{ d.device }}</router-link>
              <span class="soft"
                >{{ d.level }}<template v-if="d.gates.length">, {{ d.gates.join(', ') }}</template></span
              >
            </p>
            <span v-if="!p.devices.length && !p.break_glass" class="soft">none of their own</span>
          </td>
          <td>
            <span v-if="p.shared && !p.break_glass">{{ count(p.shared, 'shared device') }} would do</span>
            <div v-if="p.unknown !== 'deny' && !p.break_glass">an unknown device: {{ p.unknown }}</div>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="rows.length === 0" class="soft">
      {{ query.q ? 'Nobody of these' : 'Nobody' }} {{ query.all ? 'is in the directory' : 'gets through' }}.
    </p>
    <PageTurns :cursor="query.cursor" :next="data.next" @back="back" @forward="forward" />
  </template>
</template>

<style scoped>
.bar {
  display: flex;
  gap: 10px;
  margin: 14px 0;
  flex-wrap: wrap;
}
.resource {
  width: 240px;
}
.who {
  width: 180px;
}
.sum {
  font-size: 17px;
}
.device {
  margin: 0;
  display: flex;
  gap: 10px;
  align-items: center;
}
.metal {
  color: var(--metal);
  margin: 0;
}
</style>
