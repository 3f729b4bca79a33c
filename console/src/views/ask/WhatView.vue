<script setup lang="ts">
import { ref, watch } from 'vue'
import { api, must } from '../../api/client'
import AskBar from '../../components/AskBar.vue'
import OutcomeMark from '../../components/OutcomeMark.vue'
import ProblemNote from '../../components/ProblemNote.vue'
import { devices, evaluationOf, people } from '../../composables/asking'
import { useLoad } from '../../composables/useLoad'
import { useQuery } from '../../composables/useQuery'

const { query, set } = useQuery('person', 'device', 'action', 'mfa', 'ip')
const form = ref({ ...query.value })
watch(query, (q) => {
  form.value = { ...q }
})
const { data, problem, loading, again } = useLoad(
  () =>
    query.value.person
      ? must(api.POST('/api/v1/reach/resources', { body: evaluationOf(query.value) }))
      : Promise.resolve(null),
  () => query.value,
)
const ask = () => set({ ...form.value, mfa: form.value.mfa ?? '' })
</script>

<template>
  <p class="soft">Every resource, for one person on one device, now. Nothing is recorded.</p>
  <form class="bar" @submit.prevent="ask">
    <el-autocomplete
      v-model="form.person"
      name="person"
      :fetch-suggestions="people"
      :debounce="150"
      clearable
      placeholder="Person"
      aria-label="Person"
      class="wide"
      ><template #default="{ item }"
        >{{ item.value }} <span class="soft small">{{ item.note }}</span></template
      >
    </el-autocomplete>
    <el-autocomplete
      v-model="form.device"
      name="device"
      :fetch-suggestions="devices"
      :debounce="150"
      clearable
      placeholder="An unknown device"
      aria-label="Device"
      ><template #default="{ item }"
        >{{ item.value }} <span class="soft small">{{ item.note }}</span></template
      >
    </el-autocomplete>
    <AskBar v-model="form" />
    <el-button type="primary" native-type="submit" :loading="loading" :disabled="!form.person">Ask</el-button>
  </form>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <p v-else-if="!data" class="soft">Choose a person.</p>
  <table v-else class="ruled">
    <thead>
      <tr>
        <th>Resource</th>
        <th>Action</th>
        <th>Answer</th>
        <th>Gates</th>
        <th>It would take</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="r in data.items" :key="r.resource + r.action">
        <td>
          {{ r.title || r.resource }}
          <div class="soft small">{{ r.resource }}</div>
        </td>
        <td>{{ r.action }}</td>
        <td>
          <router-link :to="{ name: 'ask', query: { ...query, resource: r.resource, action: r.action } }" class="plain"
            ><OutcomeMark :outcome="r.outcome"
          /></router-link>
        </td>
        <td>{{ r.gates.join(', ') || 'none speaks of it' }}</td>
        <td>{{ r.to_allow.join('; ') }}</td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.bar {
  display: flex;
  gap: 10px;
  margin: 14px 0;
  flex-wrap: wrap;
}
.bar :deep(.el-autocomplete) {
  width: 230px;
}
.bar :deep(.el-autocomplete.wide) {
  width: 300px;
}
.plain {
  text-decoration: none;
}
</style>
