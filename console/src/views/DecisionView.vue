<script setup lang="ts">
import { api, must } from '../api/client'
import AnswerPanel from '../components/AnswerPanel.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useLoad } from '../composables/useLoad'

const props = defineProps<{ id: string }>()
const { data: answer, problem, loading, again } = useLoad(
  () => must(api.GET('/api/v1/decisions/{id}', { params: { path: { id: props.id } } })),
  () => props.id,
)
</script>

<template>
  <p class="small"><router-link to="/decisions">Decisions</router-link></p>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-else-if="!answer && loading" :rows="8" animated />
  <AnswerPanel v-else-if="answer" :answer="answer" />
</template>
