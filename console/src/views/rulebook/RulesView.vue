<script setup lang="ts">
// A form over the same document: it edits the YAML in place, and comments and
// order stay. What a form cannot hold (a check for each platform, say) is left
// to the text.
import { computed, reactive, ref, watch } from 'vue'
import { isMap, isSeq, type Document, type YAMLMap } from 'yaml'
import { api, must } from '../../api/client'
import DraftDesk from '../../components/DraftDesk.vue'
import RuleTable from '../../components/RuleTable.vue'
import { put as putIn, textOf as text, useDocuments } from '../../composables/useDocuments'
import { useLoad } from '../../composables/useLoad'
import { useQuery } from '../../composables/useQuery'
import { useSession } from '../../stores/session'

const session = useSession()
const { query, set } = useQuery('rule')
const { data: vocabulary } = useLoad(
  () => must(api.GET('/api/v1/vocabulary')),
  () => null,
)

interface Place {
  file: string
  baseline: number
  rule: number
}
interface Row {
  key: string
  title: string
  cap: string
  place: Place
}
interface Group {
  id: string
  title: string
  mode: string
  file: string
  index: number
  rules: Row[]
}

const { data: said } = useLoad(
  () => must(api.GET('/api/v1/rules')),
  () => null,
)
const { documents, change } = useDocuments()

const groups = computed<Group[]>(() => {
  const out: Group[] = []
  for (const [file, d] of documents.value) {
    const list = d.get('baselines')
    if (!isSeq(list)) continue
    list.items.forEach((b, index) => {
      const rules = isMap(b) ? b.get('rules') : undefined
      out.push({
        id: text(b, 'id'),
        title: text(b, 'title'),
        mode: text(b, 'mode') || 'enforce',
        file,
        index,
        rules: isSeq(rules)
          ? rules.items.map((r, i) => ({
              key: `${text(b, 'id')}/${text(r, 'id')}`,
              title: text(r, 'title'),
              cap: text(r, 'cap'),
              place: { file, baseline: index, rule: i },
            }))
          : [],
      })
    })
  }
  return out
})
const chosen = computed(() => groups.value.flatMap((g) => g.rules).find((r) => r.key === query.value.rule))

const form = reactive({ id: '', title: '', check: '', cap: '', unknown: '', grace: '', remedy: '', steps: '' })
const byPlatform = ref(false)

/** The checks of the chosen rule by platform; a least version of the system is a field of its own. */
const checks = computed(() => {
  const p = chosen.value?.place
  const node = p && nodeOf(documents.value.get(p.file)!, p)?.get('check', true)
  if (!isMap(node)) return []
  return node.items.map((pair) => {
    const platform = String(pair.key)
    const check = text(node, platform)
    return { platform, text: check, least: /^os\.version >= ([0-9.]+)$/.exec(check)?.[1] ?? null }
  })
})

function nodeOf(d: Document, p: Place): YAMLMap | undefined {
  const node = d.getIn(['baselines', p.baseline, 'rules', p.rule])
  return isMap(node) ? node : undefined
}

watch(
  () => [query.value.rule, chosen.value?.place.file],
  () => {
    const p = chosen.value?.place
    const node = p && nodeOf(documents.value.get(p.file)!, p)
    if (!node) return
    byPlatform.value = isMap(node.get('check', true))
    const remedy = node.getIn(['remedy', 'en'], true)
    Object.assign(form, {
      id: text(node, 'id'),
      title: text(node, 'title'),
      check: byPlatform.value ? '' : text(node, 'check'),
      cap: text(node, 'cap'),
      unknown: text(node, 'unknown'),
      grace: text(node, 'grace'),
      remedy: text(remedy, 'title'),
      steps: text(remedy, 'steps'),
    })
  },
  { immediate: true },
)

/** Sets a key of the chosen rule. Steps alone are no remedy: what has no title goes. */
function put(path: string[], value: string) {
  const p = chosen.value?.place
  if (!p) return
  change(p.file, (d) => {
    const rule = ['baselines', p.baseline, 'rules', p.rule]
    putIn(d, rule, path, value)
    if (path[0] === 'remedy' && !d.getIn([...rule, 'remedy', 'en', 'title'])) putIn(d, rule, ['remedy', 'en'], '')
  })
}

async function rename(value: string) {
  const rule = chosen.value
  const g = groups.value.find((x) => rule && x.rules.includes(rule))
  put(['id'], value)
  if (g) await set({ rule: `${g.id}/${value.trim()}` })
}

async function add(g: Group) {
  let n = g.rules.length + 1
  while (g.rules.some((r: Row) => r.key === `${g.id}/rule-${n}`)) n++
  change(g.file, (d) =>
    d.addIn(
      ['baselines', g.index, 'rules'],
      d.createNode({
        id: `rule-${n}`,
        title: 'New rule',
        check: 'managed',
        cap: vocabulary.value?.ladder[2] ?? 'limited',
      }),
    ),
  )
  await set({ rule: `${g.id}/rule-${n}` })
}

async function drop() {
  const p = chosen.value!.place
  change(p.file, (d) => d.deleteIn(['baselines', p.baseline, 'rules', p.rule]))
  await set({ rule: '' })
}

const setMode = (g: Group, mode: string) => change(g.file, (d) => d.setIn(['baselines', g.index, 'mode'], mode))
const inText = computed(() => ({ name: 'rulebook', query: { file: chosen.value?.place.file ?? '' } }))
const heading = computed(() => {
  const r = chosen.value
  return r ? { title: form.title || r.key, file: r.place.file } : null
})
</script>

<template>
  <DraftDesk label="Rules" :chosen="heading">
    <template #list>
      <section v-for="g in groups" :key="g.file + g.index">
        <h3>{{ g.title || g.id }}</h3>
        <p class="small soft">
          <code>{{ g.id }}</code>
          <el-select
            :model-value="g.mode"
            size="small"
            class="mode"
            aria-label="Mode"
            :disabled="!session.can('POST /api/v1/rulebooks')"
            @change="setMode(g, $event)"
            ><el-option v-for="m in ['draft', 'shadow', 'enforce']" :key="m" :value="m" :label="m"
          /></el-select>
          <el-button v-if="session.can('POST /api/v1/rulebooks')" link size="small" type="primary" @click="add(g)"
            >Add a rule</el-button
          >
        </p>
        <ul>
          <li v-for="r in g.rules" :key="r.key">
            <router-link :to="{ query: { rule: r.key } }" :class="{ on: r.key === query.rule }">{{
              r.title || r.key
            }}</router-link>
            <span class="soft small"> {{ r.cap }}</span>
          </li>
        </ul>
      </section>
    </template>
    <template #fields>
      <el-form-item label="Id, by which waivers and history know the rule">
        <el-input v-model="form.id" name="id" @change="rename"
      /></el-form-item>
      <el-form-item label="Title">
        <el-input v-model="form.title" name="title" @change="put(['title'], $event)"
      /></el-form-item>
      <el-form-item label="Requirement: a condition that a device in order meets">
        <div v-if="byPlatform" class="platforms">
          <template v-for="c in checks" :key="c.platform">
            <span>{{ c.platform }}</span>
            <el-input
              v-if="c.least !== null"
              :model-value="c.least"
              :aria-label="`Least version of ${c.platform}`"
              :name="`least-${c.platform}`"
              class="code"
              @change="put(['check', c.platform], $event.trim() && `os.version >= ${$event.trim()}`)"
              ><template #prepend>os.version &gt;=</template></el-input
            >
            <el-input
              v-else
              :model-value="c.text"
              :aria-label="`Requirement on ${c.platform}`"
              class="code"
              @change="put(['check', c.platform], $event)"
            />
          </template>
          <p class="soft small">
            Other platforms are added in the <router-link :to="inText">text</router-link>; an empty field takes one
            away.
          </p>
        </div>
        <el-input
          v-else
          v-model="form.check"
          name="check"
          class="code"
          type="textarea"
          autosize
          @change="put(['check'], $event)"
        />
      </el-form-item>
      <div class="row">
        <el-form-item label="Holds a failing device at">
          <el-select
            v-model="form.cap"
            name="cap"
            clearable
            :placeholder="`${vocabulary?.defaults.cap} (default)`"
            @change="put(['cap'], $event ?? '')"
            ><el-option v-for="l in vocabulary?.ladder" :key="l" :value="l" :label="l"
          /></el-select>
        </el-form-item>
        <el-form-item label="While it is not known">
          <el-select
            v-model="form.unknown"
            clearable
            :placeholder="`${vocabulary?.defaults.unknown} (default)`"
            @change="put(['unknown'], $event ?? '')"
            ><el-option v-for="l in vocabulary?.ladder" :key="l" :value="l" :label="l"
          /></el-select>
        </el-form-item>
        <el-form-item label="Grace, as 3d">
          <el-input v-model="form.grace" name="grace" placeholder="none" @change="put(['grace'], $event)" />
        </el-form-item>
      </div>
      <el-form-item label="Remedy: what a person does">
        <el-input v-model="form.remedy" name="remedy" @change="put(['remedy', 'en', 'title'], $event)" />
      </el-form-item>
      <el-form-item label="Steps; links as [text](https://…)">
        <el-input v-model="form.steps" type="textarea" autosize @change="put(['remedy', 'en', 'steps'], $event)"
      /></el-form-item>
    </template>
    <template #acts>
      <el-button link @click="drop">Remove this rule from the draft</el-button>
    </template>
    <template #empty>
      <p class="soft">
        Choose a rule to read or change it. The form and the text are the same document; what you change here stands
        there at once, and nothing counts before it is published. This is what the rules in force say of the fleet:
      </p>
      <RuleTable v-if="said" :rules="said.items" draft />
    </template>
  </DraftDesk>
</template>

<style scoped>
ul {
  list-style: none;
  padding: 0;
  margin: 4px 0;
}
li {
  border-bottom: 1px solid var(--rule);
  padding: 3px 0;
  display: flex;
  justify-content: space-between;
  gap: 12px;
}
h3 {
  margin-bottom: 4px;
}
li a {
  text-decoration: none;
}
li a.on {
  font-weight: 600;
  border-left: 3px solid var(--metal);
  padding-left: 8px;
}
.mode {
  width: 96px;
  margin: 0 8px;
}
.row {
  display: grid;
  grid-template-columns: 1fr 1fr 1fr;
  gap: 18px;
}
.code {
  font-family: var(--mono);
}
.platforms {
  display: grid;
  grid-template-columns: 90px minmax(0, 420px);
  width: 100%;
  gap: 6px 14px;
  align-items: center;
}
.platforms p {
  grid-column: span 2;
}
@media (max-width: 820px) {
  .row {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
