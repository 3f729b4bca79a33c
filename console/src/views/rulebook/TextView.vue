<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, must, type File } from '../../api/client'
import ProblemNote from '../../components/ProblemNote.vue'
import YamlEditor from '../../components/YamlEditor.vue'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import { useQuery } from '../../composables/useQuery'
import { useDraft } from '../../stores/draft'
import { useSession } from '../../stores/session'

const draft = useDraft()
const session = useSession()
const { query, set } = useQuery('file')
const { data: vocabulary } = useLoad(
  () => must(api.GET('/api/v1/vocabulary')),
  () => null,
)
const editor = ref<InstanceType<typeof YamlEditor>>()
const { busy, problem, act } = useAct()

const current = computed<File | undefined>(
  () =>
    draft.files.find((f) => f.name === query.value.file) ??
    draft.files.find((f) => f.name.includes('baseline')) ??
    draft.files[0],
)
const marks = computed(() => {
  const name = current.value?.name
  return [
    ...(draft.check?.problems ?? []).filter((p) => p.file === name),
    ...(draft.check?.remarks ?? [])
      .filter((r) => r.where.file === name)
      .map((r) => ({ line: r.where.line, column: r.where.column, message: r.message, warning: true })),
  ]
})
const wrong = (f: File) => (draft.check?.problems ?? []).filter((p) => p.file === f.name).length

async function go(file: string, line: number, column: number) {
  await set({ file })
  setTimeout(() => editor.value?.go(line, column))
}
const sign = { added: '+', removed: '−', changed: '~' }
</script>

<template>
  <div v-if="current" class="desk">
    <section class="text">
      <div class="files">
        <button
          v-for="f in draft.files"
          :key="f.name"
          type="button"
          :class="{ on: f.name === current.name }"
          @click="set({ file: f.name })"
        >
          {{ f.name }}<span v-if="wrong(f)" class="bad"> {{ wrong(f) }}</span>
        </button>
        <el-button
          size="small"
          class="fmt"
          :loading="busy"
          :disabled="!session.can('POST /api/v1/rulebooks') || (draft.check?.problems.length ?? 1) > 0"
          @click="act(draft.format)"
          >Format</el-button
        >
      </div>
      <div class="frame">
        <YamlEditor
          :key="current.name"
          ref="editor"
          :text="current.text"
          :marks="marks"
          :vocabulary="vocabulary"
          :readonly="!session.can('POST /api/v1/rulebooks')"
          :label="current.name"
          @change="draft.write(current!.name, $event)"
        />
      </div>
      <ProblemNote v-if="problem" :problem="problem" />
    </section>
    <aside aria-label="What the service says" :class="{ stale: draft.checking }">
      <template v-if="draft.check && draft.check.problems.length > 0">
        <h3>Problems</h3>
        <ol>
          <li v-for="p in draft.check.problems" :key="`${p.file}${p.line}${p.column}${p.message}`">
            <button type="button" class="at" @click="go(p.file, p.line, p.column)">{{ p.file }}:{{ p.line }}</button>
            {{ p.message }}
            <pre v-if="p.excerpt">{{ p.excerpt }}</pre>
          </li>
        </ol>
      </template>
      <template v-if="draft.changes.length > 0">
        <h3>What the draft changes</h3>
        <ul class="changes">
          <li v-for="(d, i) in draft.changes" :key="i">
            <span class="sign">{{ sign[d.change] }}</span> {{ d.text }}
          </li>
        </ul>
      </template>
      <template v-if="draft.check && draft.check.examples.length > 0">
        <h3>Examples</h3>
        <ul class="examples">
          <li v-for="e in draft.check.examples" :key="e.file + e.line">
            <span :class="e.passed ? 'good' : 'bad'">{{ e.passed ? 'holds' : 'fails' }}</span>
            <button type="button" class="at" @click="go(e.file, e.line, 1)">{{ e.title }}</button>
            <div v-if="!e.passed" class="small">
              It must be {{ e.want }} and is {{ e.got }}.
              <div v-for="r in e.reasons" :key="r" class="soft">{{ r }}</div>
            </div>
          </li>
        </ul>
      </template>
      <template v-if="draft.check && draft.check.remarks.length > 0">
        <h3>Worth a look</h3>
        <ul class="remarks">
          <li v-for="r in draft.check.remarks" :key="r.kind + r.about + r.message">
            <button
              v-if="r.where.file"
              type="button"
              class="at"
              @click="go(r.where.file, r.where.line, r.where.column)"
            >
              {{ r.where.file }}:{{ r.where.line }}
            </button>
            {{ r.message }}
          </li>
        </ul>
      </template>
    </aside>
  </div>
</template>

<style scoped>
.desk {
  display: grid;
  grid-template-columns: minmax(0, 2fr) minmax(280px, 1fr);
  gap: 28px;
}
.desk > * {
  min-width: 0;
}
.files {
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
  align-items: center;
  margin-bottom: 6px;
}
.files button:not(.fmt) {
  border: 0;
  background: none;
  padding: 4px 10px;
  white-space: nowrap;
  cursor: pointer;
  font: inherit;
  color: var(--ink-soft);
  border-bottom: 2px solid transparent;
}
.files button.on {
  color: var(--ink);
  border-bottom-color: var(--ink);
}
.fmt {
  margin-left: auto;
}
.files .bad {
  margin-left: 5px;
}
.frame {
  height: calc(100vh - 290px);
  min-height: 380px;
}
aside {
  max-height: calc(100vh - 250px);
  overflow: auto;
}
aside h3 {
  margin: 14px 0 6px;
}
aside h3:first-child {
  margin-top: 4px;
}
aside ul,
aside ol {
  list-style: none;
  padding: 0;
  margin: 0;
}
aside li {
  border-bottom: 1px solid var(--rule);
  padding: 5px 0;
  overflow-wrap: anywhere;
}
.at {
  border: 0;
  background: none;
  font: inherit;
  padding: 0;
  color: inherit;
  cursor: pointer;
  text-align: left;
  text-decoration: underline;
  text-decoration-color: var(--metal);
  text-underline-offset: 3px;
}
.bad {
  color: var(--metal);
  font-weight: 600;
}
.examples li > span {
  margin-right: 8px;
}
.good {
  color: var(--good);
  font-weight: 600;
}
.sign {
  font-family: var(--mono);
  color: var(--metal);
}
.stale {
  opacity: 0.65;
}
@media (max-width: 1000px) {
  .desk {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
