<script setup lang="ts">
import { api, must } from '../api/client'
import ListPage from '../components/ListPage.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { count } from '../composables/format'
import { useBring } from '../composables/useBring'
import { ofKinds, useLoad } from '../composables/useLoad'
import { useSearch } from '../composables/useSearch'
import { useSession } from '../stores/session'

const session = useSession()
const { query, set, fields, search, clear, forward, back } = useSearch(
  ['q', 'group'],
  (): string | undefined => data.value?.next,
)
const { data, problem, loading, again } = useLoad(
  () => must(api.GET('/api/v1/people', { params: { query: { ...query.value, limit: 50 } } })),
  () => query.value,
  ofKinds('person.'),
)

const {
  busy,
  problem: refused,
  said,
  bring,
} = useBring(
  (text, name) => {
    const type = /\.ya?ml$/.test(name) ? 'application/yaml' : 'text/csv'
    return must(
      api.POST('/api/v1/people', {
        body: text as never,
        bodySerializer: (b: unknown) => b as string,
        headers: { 'Content-Type': type },
      }),
    )
  },
  () => again(),
)
</script>

<template>
  <ListPage
    title="People"
    :page="data"
    :problem="problem"
    :loading="loading"
    :cursor="query.cursor"
    @search="search"
    @again="again"
    @back="back"
    @forward="forward"
  >
    <template #intro>
      <p class="soft">
        Whom the directory knows, and which groups they are in. Choose one to see their devices and what was decided for
        them.
      </p>
    </template>
    <template #search>
      <el-input
        v-model="fields.q"
        class="text"
        name="q"
        placeholder="Name, id or group"
        aria-label="Name, id or group"
        clearable
        @clear="search"
      />
    </template>
    <template #tools>
      <el-tag v-if="query.group" closable disable-transitions @close="set({ group: '', cursor: '' })"
        >in {{ query.group }}</el-tag
      >
    </template>
    <template #default="{ items }">
      <table class="ruled">
        <thead>
          <tr>
            <th>Name</th>
            <th>Person</th>
            <th>Groups</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="p in items" :key="p.id">
            <td>
              <router-link :to="{ name: 'person', params: { id: p.id } }">{{ p.name || p.id }}</router-link>
            </td>
            <td>{{ p.id }}</td>
            <td>
              <template v-for="(g, i) in p.groups ?? []" :key="g"
                ><template v-if="i > 0">, </template>
                <router-link :to="{ name: 'people', query: { group: g } }">{{ g }}</router-link></template
              >
              <span v-if="(p.groups ?? []).length === 0" class="soft">none</span>
            </td>
          </tr>
        </tbody>
      </table>
      <p class="soft small count">{{ count(data?.total ?? 0, 'person', 'people') }} in all.</p>
    </template>
    <template #empty>
      <h3>{{ query.q || query.group ? 'Nobody matches' : 'The directory is empty' }}</h3>
      <p class="soft">
        <el-button v-if="query.q || query.group" link type="primary" @click="clear">Show everybody</el-button
        ><template v-else>Bring people with <code>ironledger person import people.csv</code></template>
      </p>
    </template>
  </ListPage>
  <template v-if="session.can('POST /api/v1/people')">
    <p class="small bring">
      <label
        >Bring people as CSV (id, name, groups) or YAML:
        <input type="file" accept=".csv,.yaml,.yml" :disabled="busy" @change="bring" />
      </label>
    </p>
    <p v-if="said" role="status">{{ said }}</p>
    <ProblemNote v-if="refused" :problem="refused" />
  </template>
</template>

<style scoped>
.text {
  width: 370px;
}
.count {
  margin-top: 10px;
}
.bring {
  margin-top: 28px;
}
</style>
