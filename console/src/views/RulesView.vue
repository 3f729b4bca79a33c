<script setup lang="ts">
// The rules in force with what they say of the fleet, by baseline.
import { computed } from 'vue'
import { api, must } from '../api/client'
import ProblemNote from '../components/ProblemNote.vue'
import RuleTable from '../components/RuleTable.vue'
import { count } from '../composables/format'
import { ofFleet, useLoad } from '../composables/useLoad'
import { useQuery } from '../composables/useQuery'

const { query, set } = useQuery('show')
const { data, problem, loading, again } = useLoad(
  () => must(api.GET('/api/v1/rules')),
  () => null,
  ofFleet,
)
const choices = [
  { show: '', label: 'All' },
  { show: 'fail', label: 'With devices that fail' },
  { show: 'unknown', label: 'With devices of which it is not known' },
  { show: 'waived', label: 'With exceptions' },
] as const
const shown = computed(() =>
  (data.value?.items ?? []).filter((r) => {
    const k = query.value.show
    return (k !== 'fail' && k !== 'unknown' && k !== 'waived') || r.counts[k] > 0
  }),
)
const baselines = computed(() => {
  const out = new Map<string, typeof shown.value>()
  for (const r of shown.value) {
    const id = r.rule.split('/')[0]!
    out.set(id, [...(out.get(id) ?? []), r])
  }
  return [...out].map(([id, rules]) => ({ id, title: rules[0]!.baseline || id, rules }))
})
</script>

<template>
  <h1>Rules</h1>
  <p class="soft">
    What the rules in force say of the devices in service. To change them, go to the
    <router-link :to="{ name: 'rules' }">draft of the rulebook</router-link>.
  </p>
  <p class="choices">
    <el-button
      v-for="c in choices"
      :key="c.show"
      link
      :type="query.show === c.show ? 'primary' : 'default'"
      @click="set({ show: c.show })"
      >{{ c.label }}</el-button
    >
    <span v-if="data" class="soft small">{{ shown.length }} of {{ count(data.items.length, 'rule') }}</span>
  </p>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-if="!data && loading" :rows="8" animated />
  <p v-else-if="data && data.items.length === 0" class="soft">
    No rule is in force. Write some in the <router-link :to="{ name: 'rulebook' }">rulebook</router-link>.
  </p>
  <p v-else-if="data && shown.length === 0" class="soft">There is no such rule, which is good news.</p>
  <section v-for="b in baselines" :key="b.id">
    <h2>{{ b.title }}</h2>
    <RuleTable :rules="b.rules" />
  </section>
</template>

<style scoped>
.choices {
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 2px 14px;
}
.choices .el-button + .el-button {
  margin-left: 0;
}
</style>
