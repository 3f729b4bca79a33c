<script setup lang="ts">
// The base of the forms over the draft: what there is on the left, the form of what
// was chosen on the right, and what the service says against its file.
import { computed } from 'vue'
import ProblemNote from './ProblemNote.vue'
import { useDocuments } from '../composables/useDocuments'
import { useDraft } from '../stores/draft'
import { useSession } from '../stores/session'

const props = defineProps<{
  /** What is listed. */
  label: string
  /** The heading, and the file, of what was chosen; null for nothing. */
  chosen: { title: string; file: string } | null
}>()
defineSlots<{
  list(): unknown
  /** The fields of what was chosen, and what can be done with it. */
  fields(): unknown
  acts?(): unknown
  /** What is told while nothing is chosen. */
  empty(): unknown
}>()

const draft = useDraft()
const session = useSession()
const { broken } = useDocuments()
const textOf = (file: string) => ({ name: 'rulebook', query: { file } })
const told = computed(() => (draft.check?.problems ?? []).filter((p) => p.file === props.chosen?.file))
</script>

<template>
  <div class="desk">
    <nav :aria-label="label">
      <p v-for="name in broken" :key="name" class="broken">
        {{ name }} is not readable as YAML just now. Mend it in the
        <router-link :to="textOf(name)">text</router-link> first.
      </p>
      <slot name="list" />
    </nav>
    <section v-if="chosen">
      <h2>{{ chosen.title }}</h2>
      <el-form label-position="top" :disabled="!session.can('POST /api/v1/rulebooks')" @submit.prevent>
        <slot name="fields" />
      </el-form>
      <ProblemNote
        v-for="p in told"
        :key="p.message"
        :problem="{
          type: 'about:blank',
          title: '',
          status: 422,
          detail: `${p.file}:${p.line}: ${p.message}`,
          excerpt: p.excerpt,
        }"
      />
      <p>
        <router-link :to="textOf(chosen.file)">See it in the text</router-link>
        <template v-if="session.can('POST /api/v1/rulebooks')">&nbsp;<slot name="acts" /></template>
      </p>
    </section>
    <section v-else><slot name="empty" /></section>
  </div>
</template>

<style scoped>
.desk {
  display: grid;
  grid-template-columns: 330px minmax(0, 760px);
  gap: 48px;
}
nav :slotted(ul) {
  list-style: none;
  padding: 0;
  margin: 4px 0;
}
nav :slotted(section) {
  margin-bottom: 18px;
}
.broken {
  border-left: 3px solid var(--metal);
  padding-left: 12px;
}
h2 {
  margin-top: 0;
}
@media (max-width: 1000px) {
  .desk {
    grid-template-columns: minmax(0, 1fr);
    gap: 18px;
  }
}
</style>
