<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, must, type Difference } from '../../api/client'
import CopyText from '../../components/CopyText.vue'
import ProblemNote from '../../components/ProblemNote.vue'
import TimeText from '../../components/TimeText.vue'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import { useDraft } from '../../stores/draft'
import { useSession } from '../../stores/session'

const draft = useDraft()
const session = useSession()
const router = useRouter()
const { data, problem, loading, again } = useLoad(
  () => must(api.GET('/api/v1/rulebooks')),
  () => draft.inForce?.version,
)
const opened = ref(0)
const differences = ref<Difference[]>([])
const { busy, problem: failed, act } = useAct()
const sign = { added: '+', removed: '−', changed: '~' }
const read = (version: number) =>
  must(api.GET('/api/v1/rulebooks/{version}', { params: { path: { version: String(version) } } }))

/** What a version changed against the one before it. */
async function open(version: number) {
  differences.value = []
  opened.value = opened.value === version ? 0 : version
  if (opened.value < 2) return
  await act(async () => {
    const files = (await read(version)).files ?? []
    differences.value = (
      await must(
        api.POST('/api/v1/rulebooks/compare', { params: { query: { version: version - 1 } }, body: { files } }),
      )
    ).items
  })
}

/** Makes an earlier version the draft, to be looked at, rehearsed and published. */
async function take(version: number) {
  const done = await act(async () => {
    const files = (await read(version)).files ?? []
    draft.reset()
    draft.replace(files)
  })
  if (done) await router.push({ name: 'rehearsal' })
}
</script>

<template>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <ProblemNote v-if="failed" :problem="failed" />
  <el-skeleton v-if="!data && loading" :rows="6" animated />
  <p v-else-if="data && data.items.length === 0" class="soft">Nothing has been published yet.</p>
  <table v-else-if="data" class="ruled">
    <thead>
      <tr>
        <th>Version</th>
        <th>Published</th>
        <th>By</th>
        <th>For</th>
        <th>Digest</th>
        <th />
      </tr>
    </thead>
    <tbody>
      <template v-for="r in data.items" :key="r.version">
        <tr>
          <td>
            <strong>{{ r.version }}</strong>
            <span v-if="r.version === draft.inForce?.version" class="soft small"> in force</span>
          </td>
          <td><TimeText v-if="r.at" :time="r.at" /></td>
          <td>{{ r.author }}</td>
          <td>{{ r.message }}</td>
          <td>
            <CopyText :text="r.digest"
              ><code>{{ r.digest.slice(0, 12) }}</code></CopyText
            >
          </td>
          <td class="right">
            <router-link
              :to="{ name: 'ledger', query: { kind: 'rulebook.published', about: String(r.version) } }"
              class="small"
              >In the ledger</router-link
            >
            <el-button v-if="r.version > 1" link type="primary" @click="open(r.version)">{{
              opened === r.version ? 'Close' : 'What it changed'
            }}</el-button>
            <el-button
              v-if="session.can('POST /api/v1/rulebooks') && r.version !== draft.inForce?.version"
              link
              @click="take(r.version)"
              >Go back to it</el-button
            >
          </td>
        </tr>
        <tr v-if="opened === r.version">
          <td :colspan="6">
            <el-skeleton v-if="busy" :rows="2" animated />
            <p v-else-if="differences.length === 0" class="soft">It means the same as the version before it.</p>
            <ul v-else>
              <li v-for="(d, i) in differences" :key="i">
                <span class="sign">{{ sign[d.change] }}</span> {{ d.text }}
              </li>
            </ul>
          </td>
        </tr>
      </template>
    </tbody>
  </table>
</template>

<style scoped>
.right {
  text-align: right;
}
ul {
  list-style: none;
  padding: 0;
  margin: 0;
}
li {
  padding: 3px 0;
}
.sign {
  font-family: var(--mono);
  color: var(--metal);
}
</style>
