<script setup lang="ts">
import { api, must } from '../api/client'
import AuthorityPanel from '../components/AuthorityPanel.vue'
import CopyText from '../components/CopyText.vue'
import IssuedNote from '../components/IssuedNote.vue'
import LevelMark from '../components/LevelMark.vue'
import ListPage from '../components/ListPage.vue'
import TimeText from '../components/TimeText.vue'
import { useLoad } from '../composables/useLoad'
import { useSearch } from '../composables/useSearch'

const { query, fields, search, clear, forward, back } = useSearch(
  ['where', 'q', 'state'],
  (): string | undefined => page.value?.next,
)
const {
  data: page,
  problem,
  loading,
  again,
} = useLoad(
  () => must(api.GET('/api/v1/certificates', { params: { query: { ...query.value, limit: 25 } } })),
  () => query.value,
)
const states = ['trusted', 'ending', 'untrusted', 'revoked', 'unknown', 'authority', 'overdue']
</script>

<template>
  <ListPage
    title="Certificates"
    :page="page"
    :problem="problem"
    :loading="loading"
    :cursor="query.cursor"
    @search="search"
    @again="again"
    @back="back"
    @forward="forward"
  >
    <template #search>
      <el-input
        v-model="fields.where"
        class="where"
        name="where"
        aria-label="Condition"
        placeholder="A condition, as in: trusted and until(not_after) < 14d"
        clearable
        @clear="search"
      >
        <template #prefix><span class="soft small">where</span></template>
      </el-input>
      <el-input
        v-model="fields.q"
        class="text"
        name="q"
        aria-label="Text"
        placeholder="Subject, serial, digest, device"
        clearable
        @clear="search"
      />
    </template>
    <template #filters="{ page: shown }">
      <AuthorityPanel />
      <ul class="states" aria-label="Certificates by state">
        <li v-for="s in states.filter((x) => shown.states[x])" :key="s">
          <router-link
            :to="{ query: { ...$route.query, state: s, cursor: undefined } }"
            :class="[s, { on: query.state === s }]"
            >{{ s }} <strong>{{ shown.states[s] }}</strong></router-link
          >
        </li>
        <li v-if="query.state || query.where || query.q">
          <el-button link @click="clear">Show every certificate</el-button>
        </li>
      </ul>
      <table class="ruled issuers">
        <thead>
          <tr>
            <th>Issuer</th>
            <th class="n">Certificates</th>
            <th>Ends</th>
            <th>Revocation list ends</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="i in shown.issuers" :key="i.id">
            <td>
              <router-link v-if="i.id" :to="{ query: { where: `issuer_id == &quot;${i.id}&quot;` } }">{{
                i.id
              }}</router-link>
              <router-link v-else :to="{ query: { where: 'issuer_id == &quot;&quot;' } }"
                >of no issuer that the rulebook names</router-link
              >
            </td>
            <td class="n">{{ i.certificates }}</td>
            <td><TimeText v-if="i.not_after" :time="i.not_after" /></td>
            <td>
              <TimeText v-if="i.crl_ends" :time="i.crl_ends" /><span v-else-if="i.own" class="soft"
                >counts at once here; others ask this service</span
              ><span v-else-if="i.id" class="soft">it has none</span>
            </td>
          </tr>
        </tbody>
      </table>
    </template>
    <template #default="{ items }">
      <table class="ruled">
        <thead>
          <tr>
            <th>Ends</th>
            <th>State</th>
            <th>Subject</th>
            <th>Issuer</th>
            <th>Device</th>
            <th>Level</th>
            <th>Serial</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="c in items" :key="c.device + c.sha256">
            <td>
              <TimeText :time="c.not_after" />
              <div class="soft small">lives {{ c.lifetime }}</div>
            </td>
            <td>
              <span :class="['state', c.state]">{{ c.state }}</span>
              <div v-if="c.why && c.state !== 'authority'" class="soft small">{{ c.why }}</div>
            </td>
            <td class="subject">
              {{ c.subject }}
              <div v-if="c.names.length" class="soft small">{{ c.names.join(', ') }}</div>
              <IssuedNote v-if="c.issued" :issued="c.issued" @changed="again" />
            </td>
            <td>
              {{ c.issuer_id || 'none' }}
              <div class="soft small subject">{{ c.issuer }}</div>
            </td>
            <td>
              <router-link :to="{ name: 'device', params: { id: c.device } }">{{ c.device }}</router-link>
              <div class="soft small">{{ c.source }}</div>
            </td>
            <td><LevelMark :level="c.level" :rank="c.rank" :top="c.top" /></td>
            <td>
              <CopyText :text="c.sha256"
                ><code :title="`SHA-256 ${c.sha256}`">{{ c.serial }}</code></CopyText
              >
            </td>
          </tr>
        </tbody>
      </table>
    </template>
    <template #empty>
      <h3>No certificate matches</h3>
      <p class="soft">Devices show certificates in the attribute <code>certs</code>; only fresh readings are listed.</p>
    </template>
  </ListPage>
</template>

<style scoped>
.where {
  flex: 3;
  font-family: var(--mono);
}
.text {
  flex: 1;
}
.states {
  display: flex;
  gap: 24px;
  list-style: none;
  padding: 0;
  margin: 8px 0;
}
.states a {
  text-decoration: none;
}
.states .on {
  border-bottom: 2px solid var(--metal);
}
.issuers {
  max-width: 720px;
  margin: 0 0 22px;
}
.n {
  text-align: right;
  width: 110px;
  padding-right: 30px;
}
.state.revoked,
.state.untrusted {
  color: var(--metal);
  font-weight: 600;
}
.state.ending,
.state.unknown {
  border-bottom: 1px dashed var(--metal);
}
.subject {
  max-width: 300px;
  overflow-wrap: anywhere;
}
</style>
