<script setup lang="ts">
import { ref, watch } from 'vue'
import { api, must } from '../api/client'
import ProblemNote from '../components/ProblemNote.vue'
import { useBring } from '../composables/useBring'
import { ofKinds, useLoad } from '../composables/useLoad'
import { useQuery } from '../composables/useQuery'
import { useSession } from '../stores/session'

const session = useSession()
const { query, set } = useQuery('q', 'group', 'limit')
const text = ref(query.value.q)
watch(query, (q) => { text.value = q.q })
const page = 50
const { data, problem, loading, again } = useLoad(
  () => must(api.GET('/api/v1/people', { params: { query: { q: query.value.q, group: query.value.group, limit: Number(query.value.limit) || page } } })),
  () => query.value,
  ofKinds('person.'),
)
const search = () => set({ q: text.value.trim(), limit: '' })

const { busy, problem: refused, said, bring } = useBring((text, name) => {
  const type = /\.ya?ml$/.test(name) ? 'application/yaml' : 'text/csv'
  return must(api.POST('/api/v1/people', { body: text as never, bodySerializer: (b: unknown) => b as string, headers: { 'Content-Type': type } }))
}, () => again())
</script>

<template>
  <h1>People</h1>
  <p class="soft">Whom the directory knows, and which groups they are in. Choose one to see their devices and what was decided for them.</p>
  <form class="search" @submit.prevent="search">
    <el-input v-model="text" name="q" placeholder="Name, id or group" aria-label="Name, id or group" clearable @clear="search" />
    <el-button native-type="submit" type="primary">Search</el-button>
    <el-tag v-if="query.group" closable disable-transitions @close="set({ group: '', limit: '' })">in {{ query.group }}</el-tag>
  </form>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-else-if="!data && loading" :rows="8" animated />
  <template v-else-if="data && data.items.length > 0">
    <table class="ruled" :class="{ stale: loading }">
      <thead><tr><th>Name</th><th>Person</th><th>Groups</th></tr></thead>
      <tbody>
        <tr v-for="p in data.items" :key="p.id">
          <td><router-link :to="{ name: 'person', params: { id: p.id } }">{{ p.name || p.id }}</router-link></td>
          <td>{{ p.id }}</td>
          <td><template v-for="(g, i) in p.groups ?? []" :key="g"><template v-if="i > 0">, </template><router-link :to="{ name: 'people', query: { group: g } }">{{ g }}</router-link></template><span v-if="(p.groups ?? []).length === 0" class="soft">none</span></td>
        </tr>
      </tbody>
    </table>
    <p class="soft small count">{{ data.items.length }} of {{ data.total }}. <el-button v-if="data.items.length < data.total" link type="primary" @click="set({ limit: String(data.items.length + 4 * page) })">Show more</el-button></p>
  </template>
  <div v-else-if="data" class="empty">
    <h3>{{ query.q || query.group ? 'Nobody matches' : 'The directory is empty' }}</h3>
    <p class="soft"><el-button v-if="query.q || query.group" link type="primary" @click="set({ q: '', group: '', limit: '' })">Show everybody</el-button><template v-else>Bring people with <code>ironledger person import people.csv</code></template></p>
  </div>
  <template v-if="session.mayAdmin">
    <p class="small bring"><label>Bring people as CSV (id, name, groups) or YAML: <input type="file" accept=".csv,.yaml,.yml" :disabled="busy" @change="bring"></label></p>
    <p v-if="said" role="status">{{ said }}</p>
    <ProblemNote v-if="refused" :problem="refused" />
  </template>
</template>

<style scoped>
.search { display: flex; gap: 10px; margin: 14px 0 10px; align-items: center; }
.search .el-input { width: 370px; }
.stale { opacity: 0.6; }
.count { margin-top: 10px; }
.bring { margin-top: 28px; }
.empty { padding: 40px 0; }
</style>
