<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { api, must, type Device, type Reproduction } from '../api/client'
import CopyText from '../components/CopyText.vue'
import DeviceTags from '../components/DeviceTags.vue'
import DeviceHistory from '../components/DeviceHistory.vue'
import InviteForm from '../components/InviteForm.vue'
import IssuedNote from '../components/IssuedNote.vue'
import NoticesOf from '../components/NoticesOf.vue'
import StaysOf from '../components/StaysOf.vue'
import DeviceSheet from '../components/DeviceSheet.vue'
import ExceptionForm from '../components/ExceptionForm.vue'
import ProblemNote from '../components/ProblemNote.vue'
import ReasonForm from '../components/ReasonForm.vue'
import ReproductionNote from '../components/ReproductionNote.vue'
import TimeText from '../components/TimeText.vue'
import { ofKinds, useLoad } from '../composables/useLoad'
import { useQuery } from '../composables/useQuery'
import { useSession } from '../stores/session'

const props = defineProps<{ id: string }>()
const session = useSession()
const { query, set } = useQuery('at')
const {
  data: device,
  problem,
  loading,
  again,
} = useLoad<Device & { reproduction?: Reproduction }>(
  () =>
    query.value.at
      ? must(
          api.GET('/api/v1/devices/{id}/past', { params: { path: { id: props.id }, query: { at: query.value.at } } }),
        )
      : must(api.GET('/api/v1/devices/{id}', { params: { path: { id: props.id } } })),
  () => [props.id, query.value.at],
  (changes) =>
    !query.value.at &&
    (changes.about.includes(props.id) || ofKinds('rulebook.', 'person.', 'roster.', 'waiver.', 'vouch.')(changes)),
)
const then = ref<string | null>('')
watch(
  () => query.value.at,
  (at) => {
    then.value = at ? at.slice(0, 16) : ''
  },
  { immediate: true },
)
const goBack = () => set({ at: then.value ? `${then.value}:00Z` : '' })
const vouching = ref(false)
const retiring = ref(false)
const inviting = ref(false)
const retire = (reason: string) =>
  must(api.POST('/api/v1/devices/{id}/retire', { params: { path: { id: props.id } }, body: { reason } }))
function retired() {
  retiring.value = false
  return again()
}
const ordering = ref(false)
const lasts = ref('1d')
const order = (reason: string) =>
  must(
    api.POST('/api/v1/devices/quarantine', {
      body: { devices: [props.id], reason, ...(lasts.value && { for: lasts.value }) },
    }),
  )
const release = (reason: string) => must(api.POST('/api/v1/devices/release', { body: { devices: [props.id], reason } }))
function ordered() {
  ordering.value = false
  return again()
}

const facts = computed(() => {
  const d = device.value
  return d
    ? [d.platform, d.os_version, d.form, d.model, d.ownership && `${d.ownership} property`].filter(Boolean).join(', ')
    : ''
})

const own = computed(() => device.value?.certificates.filter((c) => c.state !== 'authority') ?? [])

function vouched() {
  vouching.value = false
  return again()
}
</script>

<template>
  <p class="small"><router-link to="/devices">Devices</router-link></p>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-else-if="!device && loading" :rows="10" animated />
  <div v-else-if="device" class="page">
    <header>
      <div>
        <h1>{{ device.name || device.id }}</h1>
        <p class="soft">
          <CopyText :text="device.id" /> {{ facts
          }}<template v-if="device.owner"
            >, of
            <router-link :to="{ name: 'person', params: { id: device.owner } }">{{ device.owner }}</router-link>
          </template>
        </p>
      </div>
      <p class="acts">
        <el-button v-if="session.can('POST /api/v1/vouches')" link type="primary" @click="vouching = !vouching"
          >Vouch for it…</el-button
        >
        <el-button
          v-if="session.can('POST /api/v1/devices/{id}/invite') && !device.retired"
          link
          type="primary"
          @click="inviting = !inviting"
          >Certificate…</el-button
        >
        <router-link :to="{ name: 'ask-what', query: { device: device.id, person: device.owner } }"
          >Ask what it may reach</router-link
        >
        <el-button
          v-if="
            device.quarantine
              ? session.can('POST /api/v1/devices/release')
              : session.can('POST /api/v1/devices/quarantine') && !device.retired
          "
          link
          @click="ordering = !ordering"
          >{{ device.quarantine ? 'Release…' : 'Quarantine…' }}</el-button
        >
        <el-button
          v-if="session.can('POST /api/v1/devices/{id}/retire') && !device.retired"
          link
          @click="retiring = !retiring"
          >Retire…</el-button
        >
      </p>
    </header>

    <p v-if="device.retired" class="retired" role="status">
      <strong>Retired</strong>: {{ device.retired }}. Decisions do not know it, and its reports are refused until it is
      enrolled again.
    </p>
    <DeviceTags :device="device.id" :tags="device.tags" @changed="again" />
    <p v-if="device.quarantine" class="retired" role="status">
      <strong>In quarantine</strong>
      <template v-if="device.quarantine.until">, it ends <TimeText :time="device.quarantine.until" /></template>
      <template v-else> until it is lifted</template>: {{ device.quarantine.reason }}
      <span class="soft">({{ device.quarantine.by }}, <TimeText :time="device.quarantine.at" />)</span>
    </p>
    <div v-if="ordering && device.quarantine">
      <ReasonForm label="Release it" :what="release" @done="ordered" @cancel="ordering = false" />
    </div>
    <div v-else-if="ordering">
      <label class="small lasts"
        >It stands at the lowest level for
        <select v-model="lasts" name="lasts">
          <option value="4h">4 hours</option>
          <option value="1d">a day</option>
          <option value="7d">a week</option>
          <option value="">as long as nobody lifts it</option>
        </select></label
      >
      <ReasonForm label="Quarantine it" :what="order" @done="ordered" @cancel="ordering = false" />
    </div>
    <InviteForm v-if="inviting" :device="device.id" @done="inviting = false" />
    <ReasonForm v-if="retiring" label="Retire it" :what="retire" @done="retired" @cancel="retiring = false" />

    <ExceptionForm v-if="vouching" :device="device.id" @done="vouched" @cancel="vouching = false" />
    <form class="then small" @submit.prevent="goBack">
      <label for="then">As it stood at</label>
      <el-date-picker
        id="then"
        v-model="then"
        type="datetime"
        name="then"
        size="small"
        format="YYYY-MM-DD HH:mm"
        value-format="YYYY-MM-DDTHH:mm"
        time-format="HH:mm"
        date-format="YYYY-MM-DD"
        placeholder="2026-11-20 14:30"
        :show-now="false"
      />
      <span>UTC</span>
      <el-button size="small" native-type="submit" :disabled="!then" :loading="loading">Go back</el-button>
      <el-button v-if="query.at" size="small" link type="primary" @click="set({ at: '' })"
        >Show it as it stands now</el-button
      >
    </form>
    <ReproductionNote v-if="device.reproduction" :reproduction="device.reproduction" />
    <DeviceSheet :device="device" :waivable="session.can('POST /api/v1/waivers') && !query.at" @changed="again" />
    <p v-for="r in device.refused" :key="r.source + r.attribute" class="refused small">
      Refused of {{ r.source }} <TimeText :time="r.at" />: <code>{{ r.attribute }}</code>, {{ r.message }}
    </p>

    <DeviceHistory
      :id="device.id"
      :ladder="device.top + 1"
      :version="device.since + device.seen_at + device.waivers.length + device.vouches.length"
    />

    <StaysOf v-if="!query.at" :device="device.id" />

    <NoticesOf v-if="!query.at" :device="device.id" />

    <section v-if="device.standing.reach.length > 1">
      <h2>To reach each level</h2>
      <table class="ruled narrow">
        <tbody>
          <tr v-for="step in device.standing.reach" :key="step.level">
            <td>
              <strong>{{ step.level }}</strong>
            </td>
            <td>{{ step.rules.join(', ') }}</td>
          </tr>
        </tbody>
      </table>
    </section>

    <section v-if="own.length > 0">
      <h2>Certificates</h2>
      <table class="ruled narrow">
        <thead>
          <tr>
            <th>Subject</th>
            <th>State</th>
            <th>Issuer</th>
            <th>Ends</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="c in own" :key="c.sha256">
            <td>
              {{ c.subject }}
              <IssuedNote v-if="c.issued" :issued="c.issued" @changed="again" />
            </td>
            <td>
              <span :class="{ bad: c.state === 'revoked' || c.state === 'untrusted' }">{{ c.state }}</span>
              <span v-if="c.why" class="soft small"> {{ c.why }}</span>
            </td>
            <td>{{ c.issuer_id || c.issuer }}</td>
            <td><TimeText :time="c.not_after" /></td>
          </tr>
        </tbody>
      </table>
    </section>

    <section>
      <h2>Evidence</h2>
      <table class="ruled">
        <thead>
          <tr>
            <th>Attribute</th>
            <th>Reading</th>
            <th>Source</th>
            <th>Age</th>
            <th />
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in device.readings" :key="r.attribute + r.source">
            <td>
              {{ r.title }}
              <div class="soft small">{{ r.attribute }}</div>
            </td>
            <td class="reading">
              <template v-if="r.unavailable"><span class="soft">unavailable:</span> {{ r.unavailable }}</template
              ><template v-else>{{ r.text }}</template>
            </td>
            <td>
              {{ r.source }}
              <span
                v-if="r.proved"
                class="small proved"
                title="The device said it of itself, over a connection that proved the key of its certificate"
                >✓ proved</span
              >
            </td>
            <td class="nowrap" :title="r.observed_at">{{ r.age }}</td>
            <td class="soft small">{{ r.stale ? 'stale' : r.counts ? '' : 'does not count' }}</td>
          </tr>
        </tbody>
      </table>
    </section>
  </div>
</template>

<style scoped>
.proved {
  color: var(--good, inherit);
  white-space: nowrap;
}
.then {
  display: flex;
  gap: 10px;
  align-items: center;
  margin: 8px 0;
}
.then input {
  font: inherit;
  color: inherit;
  background: var(--sheet);
  border: 1px solid var(--rule-strong);
  padding: 1px 6px;
}
.retired {
  border-left: 3px solid var(--metal);
  padding-left: 14px;
}
header {
  display: flex;
  justify-content: space-between;
  align-items: baseline;
  gap: 24px;
}
.narrow {
  max-width: 900px;
}
.reading {
  overflow-wrap: anywhere;
  max-width: 560px;
}
.refused {
  border-left: 2px dashed var(--metal);
  padding-left: 12px;
  margin: 4px 0;
}
.bad {
  color: var(--metal);
  font-weight: 600;
}
.acts {
  display: flex;
  flex-wrap: wrap;
  justify-content: flex-end;
  flex: none;
  white-space: nowrap;
  gap: 16px;
  align-items: baseline;
}
.acts :deep(.el-button) {
  margin-left: 0;
}
@media (max-width: 820px) {
  header {
    flex-direction: column;
    gap: 8px;
  }
  .acts {
    flex: initial;
    justify-content: flex-start;
    gap: 4px 14px;
  }
  .then {
    flex-wrap: wrap;
  }
}
</style>
