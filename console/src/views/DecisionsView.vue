<script setup lang="ts">
import { reactive, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, must, type Answer, type Outcome } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import ProblemNote from '../components/ProblemNote.vue'
import TimeText from '../components/TimeText.vue'
import { useLoad } from '../composables/useLoad'
import { usePages } from '../composables/usePages'
import { useQuery } from '../composables/useQuery'

const router = useRouter()
const { query, set } = useQuery('person', 'device', 'resource', 'outcome', 'cursor')
const form = reactive({ ...query.value })
watch(query, (q) => Object.assign(form, q))

const { data: page, problem, loading, again } = useLoad(
  () => {
    const { outcome, ...rest } = query.value
    return must(api.GET('/api/v1/decisions', { params: { query: { ...rest, ...(outcome && { outcome: outcome as Outcome }), limit: 25 } } }))
  },
  () => query.value,
)

const search = () => set({ person: form.person.trim(), device: form.device.trim(), resource: form.resource.trim(), outcome: form.outcome, cursor: '' })
const clear = () => set({ person: '', device: '', resource: '', outcome: '', cursor: '' })
const { forward, back } = usePages(query, set, () => page.value?.next)
const open = (d: Answer) => router.push({ name: 'decision', params: { id: d.id! } })

function gates(d: Answer): string {
  if (d.break_glass) return 'break-glass'
  return d.gates.filter((g) => !g.shadow && (d.outcome === 'allow' || g.verdict !== 'met')).map((g) => g.number ?? g.gate).join(', ')
}
</script>

<template>
  <h1>Decisions</h1>
  <form class="search" @submit.prevent="search">
    <el-input v-model="form.person" name="person" placeholder="Person" aria-label="Person" clearable @clear="search" />
    <el-input v-model="form.device" name="device" placeholder="Device" aria-label="Device" clearable @clear="search" />
    <el-input v-model="form.resource" name="resource" placeholder="Resource" aria-label="Resource" clearable @clear="search" />
    <el-select v-model="form.outcome" placeholder="Any outcome" aria-label="Outcome" clearable @change="search" @clear="search">
      <el-option value="allow" label="allow" /><el-option value="deny" label="deny" /><el-option value="step-up" label="step-up" />
    </el-select>
    <el-button native-type="submit" type="primary">Search</el-button>
  </form>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-else-if="!page && loading" :rows="8" animated />
  <el-table v-else-if="page && page.items.length > 0" :data="page.items" row-key="id" :class="{ stale: loading }" @row-click="open">
    <el-table-column label="Outcome" width="110"><template #default="{ row }"><OutcomeMark :outcome="row.outcome" /></template></el-table-column>
    <el-table-column label="When" width="112"><template #default="{ row }"><TimeText :time="row.at" /></template></el-table-column>
    <el-table-column label="Who" min-width="220" show-overflow-tooltip><template #default="{ row }">{{ row.asked.subject.type === 'device' ? 'the device itself' : row.asked.subject.id }}</template></el-table-column>
    <el-table-column label="What" min-width="160"><template #default="{ row }">{{ row.asked.action.name }} <strong>{{ row.asked.resource.id }}</strong></template></el-table-column>
    <el-table-column label="Device" width="180">
      <template #default="{ row }">
        <template v-if="row.known_device"><router-link :to="{ name: 'device', params: { id: row.device } }" @click.stop>{{ row.device }}</router-link> <span class="soft">{{ row.level }}</span></template>
        <span v-else class="soft">unknown</span>
      </template>
    </el-table-column>
    <el-table-column label="Gates" width="110"><template #default="{ row }">{{ gates(row) }}</template></el-table-column>
    <el-table-column label="If shadows were enforced" width="120"><template #default="{ row }"><OutcomeMark v-if="row.shadow_outcome" :outcome="row.shadow_outcome" /></template></el-table-column>
    <el-table-column label="Decision" width="200"><template #default="{ row }"><router-link :to="{ name: 'decision', params: { id: row.id } }" @click.stop><code>{{ row.id }}</code></router-link></template></el-table-column>
  </el-table>
  <div v-else-if="page" class="empty">
    <h3>No decision is recorded that matches</h3>
    <p class="soft">Enforcers ask at <code>POST /access/v1/evaluation</code>. <el-button link type="primary" @click="clear">Show every decision</el-button></p>
  </div>
  <nav v-if="page && (page.next || query.cursor)" class="pages" aria-label="Pages of the list">
    <el-button :disabled="!query.cursor" @click="back">Newer</el-button>
    <el-button :disabled="!page.next" @click="forward">Older</el-button>
  </nav>
</template>

<style scoped>
.search { display: flex; gap: 10px; margin: 14px 0 10px; max-width: 1000px; }
.stale { opacity: 0.6; }
.empty { padding: 40px 0; }
.pages { margin-top: 16px; }
</style>
