<script setup lang="ts">
import { computed, reactive, watch } from 'vue'
import { api, must, type Answer } from '../../api/client'
import AnswerPanel from '../../components/AnswerPanel.vue'
import ProblemNote from '../../components/ProblemNote.vue'
import TimeText from '../../components/TimeText.vue'
import { useLoad } from '../../composables/useLoad'
import { useQuery } from '../../composables/useQuery'
import { devices, evaluationOf, people } from '../../composables/asking'
import { useDraft } from '../../stores/draft'
import { useSession } from '../../stores/session'

const session = useSession()
const draft = useDraft()
void draft.load()
const { query, set } = useQuery(
  'person',
  'device',
  'resource',
  'action',
  'ip',
  'country',
  'mfa',
  'proof',
  'under',
  'at',
)
const form = reactive({ ...query.value })
watch(query, (q) => Object.assign(form, q))

const { data: vocabulary } = useLoad(
  () => must(api.GET('/api/v1/vocabulary')),
  () => null,
)
const { data: networks } = useLoad(
  () => must(api.GET('/api/v1/networks')),
  () => null,
)
const joins = computed(() => networks.value?.items.some((n) => n.id === form.resource))
const { data: refusals } = useLoad(
  () => must(api.GET('/api/v1/decisions', { params: { query: { outcome: 'deny', limit: 20 } } })),
  () => null,
)
const lately = computed(() => refusals.value?.items.filter((d) => d.asked?.subject.type !== 'device').slice(0, 8))
const complete = computed(() => query.value.person !== '' && query.value.resource !== '')

const {
  data: answer,
  problem,
  loading,
  again,
} = useLoad<Answer | null>(
  () => {
    if (!complete.value || !session.can('POST /api/v1/ask')) return Promise.resolve(null)
    const asked = evaluationOf(query.value)
    return query.value.under || query.value.at
      ? must(
          api.POST('/api/v1/ask/under', {
            body: {
              asked,
              ...(query.value.under && { files: draft.files }),
              ...(query.value.at && { at: query.value.at }),
            },
          }),
        )
      : must(api.POST('/api/v1/ask', { body: asked }))
  },
  () => query.value,
)

function ask() {
  const same = Object.entries(query.value).every(([k, v]) => form[k as keyof typeof form].trim() === v)
  return same ? again() : set(Object.fromEntries(Object.entries(form).map(([k, v]) => [k, v.trim()])))
}
</script>

<template>
  <p class="soft">Would this person get through, from this device? Nothing is recorded and nobody is let in.</p>
  <div class="columns">
    <el-form label-position="top" @submit.prevent="ask">
      <el-form-item label="Person">
        <el-autocomplete
          v-model="form.person"
          name="person"
          :fetch-suggestions="people"
          :debounce="150"
          clearable
          placeholder="maren.holt@gullholm.example"
        >
          <template #default="{ item }"
            >{{ item.value }} <span class="soft small">{{ item.note }}</span></template
          >
        </el-autocomplete>
      </el-form-item>
      <el-form-item label="Device (leave empty for an unknown one)">
        <el-autocomplete
          v-model="form.device"
          name="device"
          :fetch-suggestions="devices"
          :debounce="150"
          clearable
          placeholder="GF-L-1042"
        >
          <template #default="{ item }"
            >{{ item.value }} <span class="soft small">{{ item.note }}</span></template
          >
        </el-autocomplete>
      </el-form-item>
      <el-form-item label="Resource">
        <el-select
          v-model="form.resource"
          name="resource"
          filterable
          allow-create
          default-first-option
          placeholder="payroll"
        >
          <el-option v-for="r in vocabulary?.resources ?? []" :key="r.id" :value="r.id" :label="r.id"
            ><span
              >{{ r.id }} <span class="soft small">{{ r.title }}</span></span
            ></el-option
          >
        </el-select>
      </el-form-item>
      <el-form-item label="Action"><el-input v-model="form.action" name="action" placeholder="open" /></el-form-item>
      <el-form-item v-if="joins" label="The device proves itself by">
        <el-radio-group v-model="form.proof">
          <el-radio-button value="">not said</el-radio-button>
          <el-radio-button value="certificate">certificate</el-radio-button>
          <el-radio-button value="address">address</el-radio-button>
        </el-radio-group>
      </el-form-item>
      <el-form-item label="Second factor">
        <el-radio-group v-model="form.mfa">
          <el-radio-button value="">not said</el-radio-button>
          <el-radio-button value="yes">yes</el-radio-button>
          <el-radio-button value="no">no</el-radio-button>
        </el-radio-group>
      </el-form-item>
      <div class="pair">
        <el-form-item label="Address"><el-input v-model="form.ip" name="ip" placeholder="10.20.4.7" /></el-form-item>
        <el-form-item label="Country">
          <el-input v-model="form.country" name="country" maxlength="2" placeholder="SE"
        /></el-form-item>
      </div>
      <el-form-item label="At another moment (RFC 3339)">
        <el-input v-model="form.at" name="at" placeholder="now"
      /></el-form-item>
      <el-form-item v-if="draft.dirty" label="Rulebook">
        <el-radio-group v-model="form.under">
          <el-radio-button value="">in force</el-radio-button>
          <el-radio-button value="draft">my draft</el-radio-button>
        </el-radio-group>
      </el-form-item>
      <el-button
        type="primary"
        native-type="submit"
        :loading="loading"
        :disabled="!form.person.trim() || !form.resource"
        >Ask</el-button
      >
    </el-form>
    <section>
      <ProblemNote v-if="problem" :problem="problem" @again="again" />
      <template v-else-if="answer">
        <p v-if="query.under || query.at" class="soft">
          <template v-if="query.under">Under your draft, which is not in force</template
          ><template v-else>Under the rulebook in force</template>
          <template v-if="query.at">, at {{ query.at }} with the evidence of today</template>:
        </p>
        <AnswerPanel :answer="answer" />
      </template>
      <template v-else>
        <p class="soft waiting">The answer and the reasons of each gate appear here.</p>
        <template v-if="lately?.length">
          <h2>Refused lately: ask again</h2>
          <table class="ruled">
            <tbody>
              <tr v-for="d in lately" :key="d.id">
                <td>
                  <router-link
                    :to="{
                      name: 'ask',
                      query: {
                        person: d.asked.subject.id,
                        device: d.known_device ? d.device : undefined,
                        resource: d.asked.resource.id,
                        action: d.asked.action.name,
                      },
                    }"
                    >{{ d.asked.subject.id }}</router-link
                  >
                </td>
                <td>
                  {{ d.asked.action.name }} <strong>{{ d.asked.resource.id }}</strong>
                </td>
                <td>
                  <template v-if="d.known_device">{{ d.device }}</template>
                  <span v-else class="soft">an unknown device</span>
                </td>
                <td class="soft"><TimeText :time="d.at" /></td>
              </tr>
            </tbody>
          </table>
        </template>
      </template>
    </section>
  </div>
</template>

<style scoped>
.columns {
  display: flex;
  gap: 44px;
  align-items: flex-start;
  margin-top: 18px;
}
.el-form {
  width: 290px;
  flex: none;
}
.el-form :deep(.el-autocomplete),
.el-form :deep(.el-select) {
  width: 100%;
}
.columns > section {
  flex: 1;
  min-width: 0;
}
.pair {
  display: flex;
  gap: 12px;
}
.pair > :last-child {
  width: 90px;
  flex: none;
}
.waiting {
  border-top: 1px solid var(--rule);
  padding-top: 12px;
}
@media (max-width: 820px) {
  .columns {
    flex-direction: column;
    gap: 18px;
  }
  .columns > section {
    width: 100%;
  }
}
</style>
