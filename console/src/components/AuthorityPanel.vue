<script setup lang="ts">
// Our own authority for certificates: who signs, what devices can get, and what to trust them by.
import { ref } from 'vue'
import { api, must } from '../api/client'
import { ofKinds, useLoad } from '../composables/useLoad'
import { useSession } from '../stores/session'
import CopyText from './CopyText.vue'
import ReasonForm from './ReasonForm.vue'
import TimeText from './TimeText.vue'

const session = useSession()
const { data, again } = useLoad(
  () => must(api.GET('/api/v1/authority')),
  () => '',
  ofKinds('authority.', 'certificate.', 'rulebook.'),
)
const rotating = ref(false)
const rotate = (reason: string) => must(api.POST('/api/v1/authority/rotate', { body: { reason } }))
function rotated() {
  rotating.value = false
  return again()
}
const words: Record<string, string> = {
  signs: 'signs',
  former: 'signs nothing more; what it issued counts until it ends',
  asks: 'waits for its certificate from the authority above',
}
</script>

<template>
  <section v-if="data && (data.name || data.authorities.length)" class="authority" aria-label="Our own authority">
    <h2>Our own authority</h2>
    <p v-if="data.trouble" role="alert" class="trouble">Nothing can be issued: {{ data.trouble }}</p>
    <ul class="keys">
      <li v-for="a in data.authorities" :key="a.id">
        <strong>{{ a.subject || a.id }}</strong> {{ words[a.state] }}
        <div class="soft small">
          <template v-if="a.not_after">until <TimeText :time="a.not_after" />, {{ a.key }}, </template
          >{{ a.live }} certificates count, {{ a.revoked }} are revoked
          <CopyText v-if="a.sha256" :text="a.sha256"
            ><code :title="`SHA-256 ${a.sha256}`">{{ a.id }}</code></CopyText
          >
        </div>
      </li>
    </ul>
    <table class="ruled narrow">
      <thead>
        <tr>
          <th>Profile</th>
          <th>For devices</th>
          <th>Lives</th>
          <th>Renewed before its end</th>
          <th>From level</th>
          <th class="n">Each holds</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="p in data.profiles" :key="p.id">
          <td>
            {{ p.id }}
            <div v-if="p.title" class="soft small">{{ p.title }}</div>
          </td>
          <td>
            <code>{{ p.applies }}</code>
          </td>
          <td>{{ p.lifetime }}</td>
          <td>{{ p.renew_from }}</td>
          <td>{{ p.least }}</td>
          <td class="n">{{ p.holds }}</td>
        </tr>
      </tbody>
    </table>
    <p class="small">
      <CopyText v-if="data.trusted" :text="data.trusted">Certificates to trust devices by, PEM</CopyText>
      <el-button
        v-if="session.can('POST /api/v1/authority/rotate') && !rotating"
        link
        type="primary"
        size="small"
        @click="rotating = true"
        >Make another key…</el-button
      >
    </p>
    <ReasonForm v-if="rotating" label="Make it" :what="rotate" @done="rotated" @cancel="rotating = false" />
  </section>
</template>

<style scoped>
.authority {
  margin-bottom: 24px;
}
.keys {
  list-style: none;
  margin: 0 0 8px;
  padding: 0;
}
.trouble {
  color: var(--metal);
  font-weight: 600;
}
</style>
