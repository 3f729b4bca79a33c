<script setup lang="ts">
import { ref, watch } from 'vue'
import { api, must, type Reproduction } from '../api/client'
import AnswerPanel from '../components/AnswerPanel.vue'
import ProblemNote from '../components/ProblemNote.vue'
import ReproductionNote from '../components/ReproductionNote.vue'
import TimeText from '../components/TimeText.vue'
import { useAct } from '../composables/useAct'
import { useLoad } from '../composables/useLoad'

const props = defineProps<{ id: string }>()
const same = ref<Reproduction | null>(null)
const { busy, problem: failed, act } = useAct()
const replay = () =>
  act(async () => {
    same.value = await must(api.GET('/api/v1/decisions/{id}/replay', { params: { path: { id: answer.value!.id! } } }))
  })
watch(
  () => props.id,
  () => {
    same.value = null
  },
)
const {
  data: answer,
  problem,
  loading,
  again,
} = useLoad(
  () => must(api.GET('/api/v1/decisions/{id}', { params: { path: { id: props.id } } })),
  () => props.id,
)
</script>

<template>
  <p class="small"><router-link to="/decisions">Decisions</router-link></p>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-else-if="!answer && loading" :rows="8" animated />
  <p v-else-if="answer?.archive" class="gone">
    What was decided <TimeText :time="answer.at" /> is not here: {{ answer.where }}.
    <router-link :to="{ name: 'entry', params: { seq: answer.seq! } }">Entry {{ answer.seq }}</router-link> of the
    ledger proves its hash.
  </p>
  <p v-else-if="answer?.redacted" class="gone">
    The body of this decision was redacted:
    <router-link :to="{ name: 'entry', params: { seq: answer.seq! } }">entry {{ answer.seq }}</router-link> of the
    ledger, of <TimeText :time="answer.at" />, is all that is left.
  </p>
  <template v-else-if="answer">
    <AnswerPanel :answer="answer" :recorded="answer" />
    <ProblemNote v-if="failed" :problem="failed" />
    <ReproductionNote v-else-if="same" :reproduction="same" />
    <p v-else class="small">
      <el-button link type="primary" :loading="busy" @click="replay"
        >Make this decision again from what was kept</el-button
      >
    </p>
  </template>
</template>

<style scoped>
.gone {
  border-left: 3px solid var(--metal);
  padding-left: 14px;
}
</style>
