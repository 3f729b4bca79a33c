<script setup lang="ts">
// Who was told of what, who is to be told, and who wants no reminders.
import { computed, ref } from 'vue'
import { api, must, type Mute } from '../../api/client'
import ListPage from '../../components/ListPage.vue'
import NoticeRows from '../../components/NoticeRows.vue'
import PersonName from '../../components/PersonName.vue'
import ProblemNote from '../../components/ProblemNote.vue'
import ReasonForm from '../../components/ReasonForm.vue'
import { devices, people } from '../../composables/asking'
import { ofKinds, useLoad } from '../../composables/useLoad'
import { useSearch } from '../../composables/useSearch'
import { useSession } from '../../stores/session'

const session = useSession()
const { query, fields, search, clear, forward, back } = useSearch(
  ['person', 'device', 'state'],
  (): string | undefined => page.value?.next,
)
const {
  data: page,
  problem,
  loading,
  again,
} = useLoad(
  () => must(api.GET('/api/v1/notices', { params: { query: { ...query.value, limit: 25 } } })),
  () => query.value,
  (changes) => query.value.cursor === '' && ofKinds('notice.', 'standing.')(changes),
)
const mutes = useLoad(
  () => must(api.GET('/api/v1/notice-mutes')),
  () => true,
  ofKinds('notice.'),
)
const may = computed(() => session.can('POST /api/v1/notice-mutes'))
const states = ['waiting', 'sending', 'sent', 'healed', 'muted', 'failed']
const reminding = ref('')
const remind = (m: Mute) => (reason: string) =>
  must(api.POST('/api/v1/notice-mutes', { body: { person: m.person, for: '0s', reason } }))
function reminded() {
  reminding.value = ''
  return mutes.again()
}
const filtered = computed(() => Boolean(query.value.person || query.value.device || query.value.state))
</script>

<template>
  <ListPage
    title=""
    :page="page"
    :problem="problem"
    :loading="loading"
    :cursor="query.cursor"
    before="Newer"
    after="Older"
    @search="search"
    @again="again"
    @back="back"
    @forward="forward"
  >
    <template #intro>
      <p class="soft">
        What people and channels are told by mail or web hook, as the rulebook says under <code>notices</code>. What
        heals before anybody was told is told to nobody.
      </p>
    </template>
    <template #search>
      <el-autocomplete
        v-model="fields.person"
        name="person"
        :fetch-suggestions="people"
        :debounce="150"
        placeholder="Person"
        aria-label="Person"
        clearable
        @select="search"
        @clear="search"
      />
      <el-autocomplete
        v-model="fields.device"
        name="device"
        :fetch-suggestions="devices"
        :debounce="150"
        placeholder="Device"
        aria-label="Device"
        clearable
        @select="search"
        @clear="search"
      />
      <el-select
        v-model="fields.state"
        placeholder="Whatever became of it"
        aria-label="State"
        clearable
        @change="search"
        @clear="search"
        ><el-option v-for="s in states" :key="s" :value="s" :label="s"
      /></el-select>
    </template>
    <template #default="{ items }"><NoticeRows :items="items" /></template>
    <template #empty>
      <template v-if="filtered">
        Nothing fits. <el-button link type="primary" @click="clear">Show all</el-button>
      </template>
      <template v-else>Nobody has been told of anything yet.</template>
    </template>
  </ListPage>

  <section v-if="mutes.data.value?.items.length">
    <h2>Not reminded</h2>
    <ProblemNote v-if="mutes.problem.value" :problem="mutes.problem.value" @again="mutes.again" />
    <table class="ruled">
      <thead>
        <tr>
          <th>Person</th>
          <th>Until</th>
          <th>By</th>
          <th>Reason</th>
          <th />
        </tr>
      </thead>
      <tbody>
        <tr v-for="m in mutes.data.value.items" :key="m.person">
          <td><PersonName :id="m.person" /></td>
          <td class="nowrap">{{ m.until?.slice(0, 16).replace('T', ' ') }}</td>
          <td>{{ m.by }}</td>
          <td>{{ m.reason }}</td>
          <td>
            <ReasonForm
              v-if="reminding === m.person"
              label="Remind again"
              :what="remind(m)"
              @done="reminded"
              @cancel="reminding = ''"
            />
            <el-button v-else-if="may" link @click="reminding = m.person">Remind again…</el-button>
          </td>
        </tr>
      </tbody>
    </table>
  </section>
</template>
