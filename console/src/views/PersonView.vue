<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, must } from '../api/client'
import CopyText from '../components/CopyText.vue'
import LevelMark from '../components/LevelMark.vue'
import NoticesOf from '../components/NoticesOf.vue'
import StaysOf from '../components/StaysOf.vue'
import OutcomeMark from '../components/OutcomeMark.vue'
import ProblemNote from '../components/ProblemNote.vue'
import ReasonForm from '../components/ReasonForm.vue'
import TimeText from '../components/TimeText.vue'
import { ofList } from '../composables/preview'
import { ofFleet, ofKinds, useLoad } from '../composables/useLoad'
import { useSession } from '../stores/session'

const props = defineProps<{ id: string }>()
const session = useSession()
const router = useRouter()
const lately = 10
const { data, problem, loading, again } = useLoad(
  async () => {
    const [person, decisions] = await Promise.all([
      must(api.GET('/api/v1/people/{id}', { params: { path: { id: props.id } } })),
      must(api.GET('/api/v1/decisions', { params: { query: { person: props.id, limit: lately } } })),
    ])
    return { person, decisions: decisions.items, more: Boolean(decisions.next) }
  },
  () => props.id,
  (changes) => ofFleet(changes) || ofKinds('decision.')(changes),
)
const removing = ref(false)
const remove = (reason: string, anyway: boolean) =>
  must(
    api.POST('/api/v1/people/{id}/remove', {
      params: { path: { id: props.id } },
      body: { reason, accept_impact: anyway ? reason : undefined },
    }),
  )
const removal = async () =>
  ofList(
    (await must(
      api.POST('/api/v1/people/{id}/remove', { params: { path: { id: props.id } }, body: { dry_run: true } }),
    ))!,
  )
const theirs = () => ({ where: `owner == ${JSON.stringify(props.id)}` })
</script>

<template>
  <p class="small"><router-link to="/people">People</router-link></p>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-else-if="!data && loading" :rows="10" animated />
  <article v-else-if="data">
    <header>
      <div>
        <h1>{{ data.person.name || data.person.id }}</h1>
        <p class="soft">
          <CopyText :text="data.person.id" />
          <template v-if="data.person.groups.length > 0">
            in
            <template v-for="(g, i) in data.person.groups" :key="g">
              <template v-if="i > 0">, </template
              ><router-link :to="{ name: 'people', query: { group: g } }">{{ g }}</router-link>
            </template></template
          >
          <template v-else-if="data.person.known"> in no group</template>
        </p>
      </div>
      <p class="acts">
        <router-link :to="{ name: 'ask-what', query: { person: id, device: data.person.devices.at(-1)?.id } }"
          >Ask what they may reach</router-link
        >
        <el-button
          v-if="session.can('POST /api/v1/people/{id}/remove') && data.person.known"
          link
          @click="removing = !removing"
          >Remove…</el-button
        >
      </p>
    </header>
    <p v-if="data.person.break_glass" class="flagged"><strong>Break-glass account</strong>: it passes every gate.</p>
    <p v-if="!data.person.known" class="flagged">The directory does not know this person, so they are in no group.</p>
    <template v-if="removing">
      <p class="soft small">
        They are in no group from that moment, and sessions end where a gate asked for one. Their devices stay: retire
        those.
      </p>
      <ReasonForm
        label="Remove from the directory"
        :what="remove"
        :preview="removal"
        @done="router.push({ name: 'people' })"
        @cancel="removing = false"
      />
    </template>

    <h2>Devices</h2>
    <p v-if="data.person.devices.length === 0" class="soft">No device has this person for its owner.</p>
    <table v-else class="ruled">
      <thead>
        <tr>
          <th>Device</th>
          <th>Level</th>
          <th>Platform</th>
          <th>Held by</th>
          <th>Seen</th>
          <th />
        </tr>
      </thead>
      <tbody>
        <tr v-for="d in data.person.devices" :key="d.id">
          <td>
            <router-link :to="{ name: 'device', params: { id: d.id } }">{{ d.name || d.id }}</router-link>
            <div class="soft small">{{ d.id }}</div>
          </td>
          <td>
            <LevelMark :level="d.level" :rank="d.rank" :top="d.top" />
            <div v-if="d.retired" class="soft small">retired: {{ d.retired }}</div>
          </td>
          <td>
            {{ [d.platform, d.os_version].filter(Boolean).join(' ') }}
            <div class="soft small">
              {{ [d.form, d.ownership && `${d.ownership} property`].filter(Boolean).join(', ') }}
            </div>
          </td>
          <td>
            <div v-for="b in d.binding" :key="b">{{ b }}</div>
            <span v-if="!d.covered" class="soft">no baseline applies</span>
          </td>
          <td class="nowrap"><TimeText :time="d.seen_at" /></td>
          <td class="nowrap">
            <router-link :to="{ name: 'ask-what', query: { person: id, device: d.id } }">What it may reach</router-link>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="data.person.more > 0" class="small">
      <router-link :to="{ name: 'devices', query: theirs() }">and {{ data.person.more }} more</router-link>
    </p>

    <StaysOf :person="id" />

    <NoticesOf :person="id" />

    <h2>Decided lately</h2>
    <p v-if="data.decisions.length === 0" class="soft">Nothing was ever decided for this person.</p>
    <table v-else class="ruled">
      <thead>
        <tr>
          <th>When</th>
          <th>Outcome</th>
          <th>Asked</th>
          <th>Device</th>
          <th>Gates</th>
          <th>Code</th>
          <th />
        </tr>
      </thead>
      <tbody>
        <tr v-for="d in data.decisions" :key="d.id">
          <td class="nowrap"><TimeText :time="d.at" /></td>
          <td><OutcomeMark :outcome="d.outcome" /></td>
          <td>
            {{ d.asked.action.name }} <strong>{{ d.asked.resource.id }}</strong>
          </td>
          <td>
            <template v-if="d.known_device"
              ><router-link :to="{ name: 'device', params: { id: d.device! } }">{{ d.device }}</router-link>
              <span class="soft beside">{{ d.level }}</span> </template
            ><span v-else class="soft">unknown</span>
          </td>
          <td>{{ d.decisive?.join(', ') }}</td>
          <td><CopyText v-if="d.code" :text="d.code" /></td>
          <td class="nowrap"><router-link :to="{ name: 'decision', params: { id: d.id! } }">Why</router-link></td>
        </tr>
      </tbody>
    </table>
    <p v-if="data.more" class="small">
      <router-link :to="{ name: 'decisions', query: { person: id } }"
        >Every decision for {{ data.person.name || id }}</router-link
      >
    </p>
  </article>
</template>

<style scoped>
header {
  display: flex;
  justify-content: space-between;
  align-items: baseline;
  flex-wrap: wrap;
  gap: 4px 24px;
}
.acts {
  display: flex;
  gap: 16px;
  align-items: baseline;
}
.flagged {
  border-left: 3px solid var(--metal);
  padding-left: 14px;
}
</style>
