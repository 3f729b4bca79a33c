<script setup lang="ts">
// A form over the gates of the draft; it edits the YAML in place.
import { computed, reactive, watch } from 'vue'
import { isMap, isSeq } from 'yaml'
import { api, must } from '../../api/client'
import DraftDesk from '../../components/DraftDesk.vue'
import GateList from '../gates/ListView.vue'
import { put as putIn, textOf, useDocuments, type Held } from '../../composables/useDocuments'
import { useLoad } from '../../composables/useLoad'
import { useQuery } from '../../composables/useQuery'
import { useDraft } from '../../stores/draft'
import { useSession } from '../../stores/session'

const draft = useDraft()
const session = useSession()
const { query, set } = useQuery('gate')
const { documents, change } = useDocuments()
const { data: vocabulary } = useLoad(
  () => must(api.GET('/api/v1/vocabulary')),
  () => null,
)

interface Row {
  id: string
  number: string
  title: string
  mode: string
  file: string
  index: number
}

const gates = computed<Row[]>(() => {
  const out: Row[] = []
  for (const [file, d] of documents.value) {
    const list = d.get('gates')
    if (!isSeq(list)) continue
    list.items.forEach((g, index) =>
      out.push({
        id: textOf(g, 'id'),
        number: textOf(g, 'number'),
        title: textOf(g, 'title'),
        mode: textOf(g, 'mode') || 'enforce',
        file,
        index,
      }),
    )
  }
  const place = (r: Row) => (r.number === '' ? Infinity : Number(r.number))
  return out.sort((a, b) => place(a) - place(b))
})
const chosen = computed(() => gates.value.find((g) => g.id === query.value.gate))

/** The lists of a gate, by where they stand in it. */
const lists = {
  groups: ['who', 'groups'],
  users: ['who', 'users'],
  exceptGroups: ['who', 'except', 'groups'],
  exceptUsers: ['who', 'except', 'users'],
  resources: ['what', 'resources'],
  tags: ['what', 'tags'],
  actions: ['what', 'actions'],
} as const
type ListName = keyof typeof lists
const form = reactive({
  id: '',
  number: '',
  title: '',
  when: '',
  need: '',
  otherwise: '',
  message: '',
  valid_for: '',
  everyone: false,
  everything: false,
  groups: [] as string[],
  users: [] as string[],
  exceptGroups: [] as string[],
  exceptUsers: [] as string[],
  resources: [] as string[],
  tags: [] as string[],
  actions: [] as string[],
})

watch(
  () => [query.value.gate, chosen.value?.file, documents.value],
  () => {
    const g = chosen.value
    const node = g && documents.value.get(g.file)!.getIn(['gates', g.index])
    if (!isMap(node)) return
    Object.assign(form, {
      id: textOf(node, 'id'),
      number: textOf(node, 'number'),
      title: textOf(node, 'title'),
      when: textOf(node, 'when'),
      need: textOf(node, 'need'),
      otherwise: textOf(node, 'otherwise'),
      valid_for: textOf(node, 'valid_for'),
      message: textOf(node.get('message', true), 'en'),
      everyone: node.getIn(['who', 'everyone']) === true,
      everything: node.getIn(['what', 'everything']) === true,
    })
    for (const name of Object.keys(lists) as ListName[]) {
      const list = node.getIn(lists[name])
      form[name] = isSeq(list) ? (list.toJSON() as unknown[]).map(String) : []
    }
  },
  { immediate: true },
)

/** Sets what stands at a path of the chosen gate. */
function put(path: readonly string[], value: Held) {
  const g = chosen.value
  if (g) change(g.file, (d) => putIn(d, ['gates', g.index], path, value))
}

/** Everyone, or everything, takes the place of what was listed. */
function whole(part: 'who' | 'what', key: string, on: boolean) {
  put([part, key], on)
  if (on) for (const name of part === 'who' ? ['groups', 'users'] : ['resources', 'tags']) put([part, name], [])
}

async function rename(value: string) {
  put(['id'], value.trim())
  await set({ gate: value.trim() })
}

function freeId(wanted: string): string {
  let id = wanted
  for (let n = 2; gates.value.some((g) => g.id === id); n++) id = `${wanted}-${n}`
  return id
}
const freeNumber = (after: number) => {
  let n = after + 1
  while (gates.value.some((g) => Number(g.number) === n)) n++
  return n
}

async function add() {
  const file = gates.value[0]?.file ?? draft.files.find((f) => /\.ya?ml$/.test(f.name))?.name
  if (!file) return
  const id = freeId('new-gate')
  change(file, (d) =>
    d.addIn(
      ['gates'],
      d.createNode({
        id,
        number: freeNumber(Math.max(0, ...gates.value.map((g) => Number(g.number)))),
        title: 'New gate',
        mode: 'shadow',
        who: { everyone: true },
        what: { resources: [vocabulary.value?.resources[0]?.id ?? ''] },
        need: 'level >= limited',
      }),
    ),
  )
  await set({ gate: id })
}

/** A copy has no effect before somebody enforces it. */
async function copy() {
  const g = chosen.value!
  const id = freeId(`${g.id}-copy`)
  change(g.file, (d) => {
    const node = d.getIn(['gates', g.index])
    if (!isMap(node)) return
    const again = {
      ...(node.toJSON() as Record<string, unknown>),
      id,
      mode: 'shadow',
      ...(g.number && { number: freeNumber(Number(g.number)) }),
    }
    d.addIn(['gates'], d.createNode(again))
  })
  await set({ gate: id })
}

async function drop() {
  const g = chosen.value!
  change(g.file, (d) => d.deleteIn(['gates', g.index]))
  await set({ gate: '' })
}

const heading = computed(() => {
  const g = chosen.value
  return g ? { title: `${form.number} ${form.title || g.id}`, file: g.file } : null
})
const tags = computed(() => [...new Set((vocabulary.value?.resources ?? []).flatMap((r) => r.tags ?? []))])
</script>

<template>
  <DraftDesk label="Gates" :chosen="heading">
    <template #list>
      <ul>
        <li v-for="g in gates" :key="g.file + g.index">
          <router-link :to="{ query: { gate: g.id } }" :class="{ on: g.id === query.gate }"
            ><strong>{{ g.number }}</strong> {{ g.title || g.id }}</router-link
          ><span v-if="g.mode !== 'enforce'" class="soft small">{{ g.mode }}</span>
        </li>
      </ul>
      <el-button v-if="session.can('POST /api/v1/rulebooks')" link type="primary" @click="add">Add a gate</el-button>
    </template>
    <template #fields>
      <div class="row">
        <el-form-item label="Id"><el-input v-model="form.id" name="id" @change="rename" /></el-form-item>
        <el-form-item label="Number">
          <el-input v-model="form.number" name="number" @change="put(['number'], Number($event) || '')" />
        </el-form-item>
        <el-form-item label="Mode">
          <el-select :model-value="chosen?.mode" name="mode" @change="put(['mode'], $event)">
            <el-option v-for="m in ['draft', 'shadow', 'enforce']" :key="m" :value="m" :label="m"
          /></el-select>
        </el-form-item>
      </div>
      <el-form-item label="Title">
        <el-input v-model="form.title" name="title" @change="put(['title'], $event)"
      /></el-form-item>
      <div class="row">
        <el-form-item label="Who: groups">
          <el-checkbox v-model="form.everyone" label="everyone" @change="whole('who', 'everyone', $event as boolean)" />
          <el-select
            v-if="!form.everyone"
            v-model="form.groups"
            multiple
            filterable
            allow-create
            default-first-option
            aria-label="Groups"
            @change="put(lists.groups, $event)"
        /></el-form-item>
        <el-form-item v-if="!form.everyone" label="and people">
          <el-select
            v-model="form.users"
            multiple
            filterable
            allow-create
            default-first-option
            @change="put(lists.users, $event)"
        /></el-form-item>
        <el-form-item label="but not groups">
          <el-select
            v-model="form.exceptGroups"
            multiple
            filterable
            allow-create
            default-first-option
            @change="put(lists.exceptGroups, $event)"
        /></el-form-item>
      </div>
      <div class="row">
        <el-form-item label="What: resources">
          <el-checkbox
            v-model="form.everything"
            label="everything"
            @change="whole('what', 'everything', $event as boolean)" />
          <el-select
            v-if="!form.everything"
            v-model="form.resources"
            multiple
            filterable
            aria-label="Resources"
            @change="put(lists.resources, $event)"
            ><el-option v-for="r in vocabulary?.resources ?? []" :key="r.id" :value="r.id" :label="r.id" /> </el-select
        ></el-form-item>
        <el-form-item v-if="!form.everything" label="and tags">
          <el-select v-model="form.tags" multiple filterable @change="put(lists.tags, $event)">
            <el-option v-for="t in tags" :key="t" :value="t" :label="t" /></el-select
        ></el-form-item>
        <el-form-item label="only to do">
          <el-select
            v-model="form.actions"
            multiple
            filterable
            allow-create
            default-first-option
            placeholder="anything"
            @change="put(lists.actions, $event)"
        /></el-form-item>
      </div>
      <el-form-item label="Needs: a condition on the device, the person and the request">
        <el-input
          v-model="form.need"
          name="need"
          class="code"
          type="textarea"
          autosize
          @change="put(['need'], $event.trim())"
      /></el-form-item>
      <el-form-item label="When (if false the gate does not apply)">
        <el-input
          v-model="form.when"
          name="when"
          class="code"
          placeholder="always"
          @change="put(['when'], $event.trim())"
      /></el-form-item>
      <div class="row">
        <el-form-item label="Otherwise">
          <el-select
            v-model="form.otherwise"
            clearable
            :placeholder="`${vocabulary?.defaults.otherwise} (default)`"
            @change="put(['otherwise'], $event ?? '')"
            ><el-option value="deny" label="deny" /><el-option value="step-up" label="step-up"
          /></el-select>
        </el-form-item>
        <el-form-item label="Holds for, as 8h">
          <el-input
            v-model="form.valid_for"
            name="valid_for"
            :placeholder="`${vocabulary?.defaults.valid_for} (default)`"
            @change="put(['valid_for'], $event.trim())"
        /></el-form-item>
        <el-form-item label="Told to who is refused">
          <el-input v-model="form.message" name="message" @change="put(['message', 'en'], $event.trim())" />
        </el-form-item>
      </div>
    </template>
    <template #acts>
      <el-button link type="primary" @click="copy">Copy it, in shadow</el-button>
      <el-button link @click="drop">Remove this gate from the draft</el-button>
    </template>
    <template #empty>
      <p class="soft">
        Choose a gate to read or change it. The form and the text are the same document; what you change here stands
        there at once, and nothing counts before it is published. A gate in shadow is worked out for real requests and
        has no effect. These are the gates in force; <router-link :to="{ name: 'coverage' }">their map</router-link>
        shows what it takes for each group.
      </p>
      <GateList />
    </template>
  </DraftDesk>
</template>

<style scoped>
li {
  border-bottom: 1px solid var(--rule);
  padding: 3px 0;
  display: flex;
  justify-content: space-between;
  gap: 12px;
}
li a {
  text-decoration: none;
}
li a.on {
  font-weight: 600;
  border-left: 3px solid var(--metal);
  padding-left: 8px;
}
.row {
  display: grid;
  grid-template-columns: 1fr 1fr 1fr;
  gap: 18px;
}
.code {
  font-family: var(--mono);
}
@media (max-width: 820px) {
  .row {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
