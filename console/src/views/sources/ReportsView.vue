<script setup lang="ts">
import { ref } from 'vue'
import { api, must, type Unmatched } from '../../api/client'
import EnrolmentDesk from '../../components/EnrolmentDesk.vue'
import ProblemNote from '../../components/ProblemNote.vue'
import ReasonForm from '../../components/ReasonForm.vue'
import RosterDesk from '../../components/RosterDesk.vue'
import TimeText from '../../components/TimeText.vue'
import { count, num } from '../../composables/format'
import { ofJoin } from '../../composables/preview'
import { ofKinds, useLoad } from '../../composables/useLoad'
import { useSession } from '../../stores/session'

const session = useSession()
const { data, problem, loading, again } = useLoad(
  async () => {
    const [sources, unmatched] = await Promise.all([
      must(api.GET('/api/v1/sources')),
      must(api.GET('/api/v1/unmatched')),
    ])
    return { sources: sources.items, unmatched: unmatched.items }
  },
  () => null,
  ofKinds('device.', 'evidence.'),
)
const settling = ref<{ id: string; device: string } | null>(null)

/** The devices that the keys of a report point at, each once. */
const candidates = (u: Unmatched) => [...new Set(u.keys.flatMap((k) => (k.device ? [k.device] : [])))]
const settle = (id: string, device: string) => (reason: string) =>
  must(
    api.POST('/api/v1/unmatched/{id}/settle', {
      params: { path: { id } },
      body: device ? { device, reason } : { discard: true, reason },
    }),
  )
/** Which keys would move, and where the device would stand. */
const join = (id: string, device: string) => async () =>
  ofJoin(
    await must(
      api.POST('/api/v1/unmatched/{id}/settle', {
        params: { path: { id } },
        body: { device, reason: 'a look beforehand', dry_run: true },
      }),
    ),
  )
function done() {
  settling.value = null
  return again()
}
</script>

<template>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-if="!data && loading" :rows="8" animated />
  <template v-if="data">
    <table class="ruled">
      <thead>
        <tr>
          <th>Source</th>
          <th class="n">Rank</th>
          <th>May supply</th>
          <th class="n">Devices</th>
          <th class="n">Readings</th>
          <th class="n">Count</th>
          <th class="n">Stale</th>
          <th>Newest</th>
          <th>Refused</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="s in data.sources" :key="s.id">
          <td>
            <strong>{{ s.id }}</strong>
            <div class="soft small">{{ s.title }}<template v-if="!s.declared"> not in the rulebook</template></div>
            <div v-if="s.vouches" class="soft small">vouches for devices, for {{ s.vouches }} at a time</div>
            <div v-if="s.signals" class="soft small">
              events of {{ s.signals.issuer }}: {{ s.signals.taken }} taken, {{ s.signals.refused }} refused<template
                v-if="s.signals.last_at"
                >, the last <TimeText :time="s.signals.last_at"
              /></template>
              <div v-if="s.signals.failure" class="quiet">{{ s.signals.failure }}</div>
            </div>
          </td>
          <td class="n">{{ s.rank }}</td>
          <td>
            <code>{{ s.provides.join(', ') }}</code>
          </td>
          <td class="n">{{ num(s.devices) }}</td>
          <td class="n">{{ num(s.readings) }}</td>
          <td class="n">{{ num(s.counting) }}</td>
          <td class="n">{{ num(s.stale) }}</td>
          <td>
            <TimeText v-if="s.last_at" :time="s.last_at" /><template v-else>never</template>
            <div v-if="s.quiet" class="quiet small">quiet for longer than {{ s.quiet_after }}</div>
          </td>
          <td>
            <div v-for="r in s.refused" :key="r.attribute + r.message" class="small">
              <code>{{ r.attribute }}</code> of {{ count(r.devices, 'device') }}, as
              <router-link :to="{ name: 'device', params: { id: r.device } }">{{ r.device }}</router-link>:
              {{ r.message }}
            </div>
          </td>
        </tr>
      </tbody>
    </table>

    <h2>Reports that joined no device</h2>
    <p v-if="data.unmatched.length === 0" class="soft">
      None. A report whose keys point at different devices is kept here until a person says whose it is, and one of a
      device that nobody has made known until somebody does.
    </p>
    <table v-else class="ruled">
      <thead>
        <tr>
          <th>Arrived</th>
          <th>Source</th>
          <th>Its keys point at</th>
          <th>It says</th>
          <th>Whose is it?</th>
        </tr>
      </thead>
      <tbody>
        <template v-for="u in data.unmatched" :key="u.id">
          <tr>
            <td>
              <TimeText :time="u.at" />
              <div v-if="u.times > 1" class="soft small">{{ u.times }} times</div>
            </td>
            <td>
              {{ u.source }}
              <div v-if="u.state === 'waiting'" class="soft small">waits until its device is known</div>
            </td>
            <td>
              <div v-for="k in u.keys" :key="k.kind">
                {{ k.kind }} <code>{{ k.text }}</code>:
                <router-link v-if="k.device" :to="{ name: 'device', params: { id: k.device } }">{{
                  k.device
                }}</router-link>
                <span v-else class="soft">no device</span>
              </div>
              <div v-if="u.why" class="soft small">{{ u.why }}</div>
            </td>
            <td class="small">
              <div v-for="r in u.readings" :key="r.attribute">{{ r.attribute }} {{ r.text }}</div>
            </td>
            <td v-if="session.can('POST /api/v1/unmatched/{id}/settle')">
              <el-button v-for="d in candidates(u)" :key="d" size="small" @click="settling = { id: u.id, device: d }"
                >It is {{ d }}</el-button
              >
              <el-button link size="small" @click="settling = { id: u.id, device: '' }">Discard</el-button>
            </td>
          </tr>
          <tr v-if="settling?.id === u.id">
            <td :colspan="5">
              <ReasonForm
                :label="settling.device ? `Join to ${settling.device}` : 'Discard'"
                :what="settle(u.id, settling.device)"
                :preview="settling.device ? join(u.id, settling.device) : undefined"
                @done="done"
                @cancel="settling = null"
              />
            </td>
          </tr>
        </template>
      </tbody>
    </table>

    <EnrolmentDesk />

    <RosterDesk />
  </template>
</template>

<style scoped>
.n {
  text-align: right;
}
.quiet {
  color: var(--metal);
  font-weight: 600;
}
.right {
  text-align: right;
}
</style>
