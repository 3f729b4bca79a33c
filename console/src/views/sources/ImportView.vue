<script setup lang="ts">
// Bringing a file of devices in: drop it, see what its columns may be, adjust, see what its lines would become, take them.
import { computed, ref, shallowRef, watch } from 'vue'
import { api, must, type FileColumns, type FileResult } from '../../api/client'
import FeedMap from '../../components/FeedMap.vue'
import ImportNote from '../../components/ImportNote.vue'
import ProblemNote from '../../components/ProblemNote.vue'
import TimeText from '../../components/TimeText.vue'
import { mappedOf, mappingOf, rowsOf, simple, targetsOf, type Mapped } from '../../composables/feeds'
import { base64Of, save } from '../../composables/files'
import { bytes, count } from '../../composables/format'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import { useSession } from '../../stores/session'

const session = useSession()
const { data, problem, again } = useLoad(
  async () => {
    const [sources, vocabulary, kept] = await Promise.all([
      must(api.GET('/api/v1/sources')),
      must(api.GET('/api/v1/vocabulary')),
      must(api.GET('/api/v1/mappings')),
    ])
    return { sources: sources.items, names: vocabulary.names, kept: kept.items }
  },
  () => null,
)

const file = shallowRef<{ name: string; size: number; file: string } | null>(null)
const columns = shallowRef<FileColumns | null>(null)
const over = ref(false)
const { busy: looking, problem: unread, act: actLook } = useAct()
async function take(files: FileList | null | undefined) {
  const f = files?.[0]
  over.value = false
  if (!f) return
  columns.value = null
  await actLook(async () => {
    const body = { name: f.name, file: await base64Of(f) }
    columns.value = await must(api.POST('/api/v1/imports/look', { body }))
    file.value = { ...body, size: f.size }
  })
  lay()
}

const source = ref('')
const rows = ref<Mapped[]>([])
/** A mapping that was kept and that rows cannot show: it is used as it is. */
const fixed = shallowRef<Record<string, unknown> | null>(null)
const kept = computed(() => data.value?.kept.find((m) => m.source === source.value))
const declared = computed(() => (data.value?.sources ?? []).filter((s) => s.declared))

/** Lays the mapping of the source over the columns, or the guesses. */
function lay() {
  const places = columns.value?.places
  if (!places) return
  const was = kept.value?.mapping as Record<string, unknown> | undefined
  fixed.value = was && !simple(was) ? was : null
  rows.value = was && !fixed.value ? rowsOf(was, places) : mappedOf(places)
}
watch(source, lay)

const targets = computed(() => targetsOf('devices', data.value?.names ?? []))
const types = computed(() => Object.fromEntries((data.value?.names ?? []).map((n) => [n.name, n.type])))
const own = computed(() => Boolean(columns.value?.own))
const mapping = computed(() => fixed.value ?? mappingOf(rows.value, columns.value?.list_at ?? ''))
const draft = () => ({
  name: file.value!.name,
  file: file.value!.file,
  source: source.value,
  ...(!own.value && { mapping: mapping.value }),
})

const tried = shallowRef<FileResult | null>(null)
const { busy: trying, problem: untried, act: actTry } = useAct()
const tryOut = () =>
  actTry(async () => {
    tried.value = await must(api.POST('/api/v1/imports', { body: { ...draft(), dry_run: true } }))
  })
// What was tried is no longer what is there.
watch([rows, source, columns], () => ((tried.value = null), (done.value = null)), { deep: true })

/** The attributes that a mapping sets, in a line. */
const takes = (m: Record<string, unknown>) => Object.keys((m.evidence as object | undefined) ?? {}).join(', ')
const { problem: unforgotten, act: actForget } = useAct()
async function forget(of: string) {
  if (await actForget(() => must(api.POST('/api/v1/mappings/{source}/drop', { params: { path: { source: of } } }))))
    again()
}

const whole = ref(false)
const keep = ref(true)
const why = ref('')
const done = shallowRef<FileResult | null>(null)
const held = computed(() => Boolean(done.value?.taken.gone?.held))
const { busy: bringing, problem: unbrought, act: actBring } = useAct()
const bring = () =>
  actBring(async () => {
    const body = {
      ...draft(),
      ...(whole.value && { whole: true, ...(why.value.trim() && { accept_impact: why.value.trim() }) }),
      ...(keep.value && !own.value && { keep: true }),
    }
    done.value = await must(api.POST('/api/v1/imports', { body }))
  })
</script>

<template>
  <h2 class="title">Bring in a file</h2>
  <p class="soft small">
    An inventory of devices as CSV, JSON or NDJSON, of 24 MiB at most. Larger ones, and lists that come again and again,
    are for <code>ironledger device import</code> and for <router-link :to="{ name: 'feeds' }">feeds</router-link>.
  </p>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-else-if="!data" :rows="6" animated />
  <form v-else @submit.prevent>
    <label
      class="drop"
      :class="{ over }"
      @dragover.prevent="over = true"
      @dragleave="over = false"
      @drop.prevent="take($event.dataTransfer?.files)"
    >
      <input
        type="file"
        name="file"
        accept=".csv,.json,.ndjson,.jsonl,.txt"
        @change="take(($event.target as HTMLInputElement).files)"
      />
      <span v-if="looking">Reading it…</span>
      <span v-else-if="file && columns"
        ><strong>{{ file.name }}</strong
        >, {{ bytes(file.size) }}: {{ count(columns.items, 'item') }} of {{ columns.format.toUpperCase()
        }}<template v-if="columns.list_at"
          >, at <code>{{ columns.list_at }}</code></template
        >. Drop another to take its place.</span
      >
      <span v-else><strong>Drop a file here</strong>, or choose one</span>
    </label>
    <ProblemNote v-if="unread" :problem="unread" />

    <template v-if="!columns">
      <ol class="soft">
        <li>Say whose file it is: the rulebook says what each source may say, and how much that counts.</li>
        <li>Look at what its columns may be, and correct it.</li>
        <li>See where its devices would stand, and why some of it would not be taken.</li>
        <li>Bring it in. Nothing is taken before.</li>
      </ol>
      <section v-if="data.kept.length > 0">
        <h3>How files were read before</h3>
        <table class="ruled">
          <thead>
            <tr>
              <th>Source</th>
              <th>Kept</th>
              <th>What it takes</th>
              <th />
            </tr>
          </thead>
          <tbody>
            <tr v-for="m in data.kept" :key="m.source">
              <td>{{ m.source }}</td>
              <td class="nowrap"><TimeText :time="m.at" /> by {{ m.by }}</td>
              <td>{{ takes(m.mapping) }}</td>
              <td class="nowrap">
                <el-button link size="small" @click="save(`${m.source}.json`, JSON.stringify(m.mapping, null, 2))"
                  >Save as a file</el-button
                >
                <el-button
                  v-if="session.can('POST /api/v1/mappings/{source}/drop')"
                  link
                  size="small"
                  @click="forget(m.source)"
                  >Forget</el-button
                >
              </td>
            </tr>
          </tbody>
        </table>
        <ProblemNote v-if="unforgotten" :problem="unforgotten" />
      </section>
    </template>
    <template v-if="columns">
      <section>
        <h3>1. Whose file it is</h3>
        <el-select
          v-model="source"
          filterable
          :allow-create="declared.length === 0"
          placeholder="Source"
          aria-label="Source"
          class="source"
        >
          <el-option v-for="s in data.sources" :key="s.id" :value="s.id" :label="s.title || s.id" />
        </el-select>
        <p v-if="kept" class="soft small">Its files were read so before, as {{ kept.by }} kept it.</p>
      </section>

      <section>
        <h3>2. What its columns are in our words</h3>
        <p v-if="own" class="soft">It speaks in our own words already.</p>
        <p v-else-if="fixed" class="soft">
          The mapping that was kept says more than can be shown here; it is used as it is.
        </p>
        <FeedMap v-else v-model="rows" :targets="targets" :types="types" :plain="columns.format === 'csv'" />
        <p>
          <el-button type="primary" :loading="trying" :disabled="!source" @click="tryOut"
            >See what they become</el-button
          >
          <span v-if="!source" class="soft small"> Say first whose file it is.</span>
        </p>
        <ProblemNote v-if="untried" :problem="untried" />
        <ImportNote v-if="tried && !done" :result="tried" />
      </section>

      <section v-if="tried">
        <h3>3. Take them</h3>
        <el-checkbox v-model="whole">It is all that the source knows: what it does not list is gone</el-checkbox>
        <el-checkbox v-if="!own" v-model="keep">Read the source's next file in the same way</el-checkbox>
        <el-input
          v-if="held"
          v-model="why"
          name="why"
          placeholder="Why are so many gone?"
          aria-label="Why devices are gone"
          class="why"
        />
        <p>
          <el-button type="primary" :loading="bringing" :disabled="held && !why.trim()" @click="bring">{{
            held ? 'Bring it in all the same' : 'Bring it in'
          }}</el-button>
          <el-button v-if="!own" link @click="save('mapping.json', JSON.stringify(mapping, null, 2))"
            >Save the mapping as a file</el-button
          >
        </p>
        <ProblemNote v-if="unbrought" :problem="unbrought" />
        <ImportNote v-if="done" :result="done" />
        <p v-if="done && !held" class="small"><router-link :to="{ name: 'devices' }">See the devices</router-link></p>
      </section>
    </template>
  </form>
</template>

<style scoped>
.title {
  margin: 4px 0 4px;
  font-size: 22px;
}
.drop {
  display: block;
  margin: 12px 0;
  padding: 26px 18px;
  border: 1px dashed var(--rule-strong);
  background: var(--sheet);
  text-align: center;
  cursor: pointer;
}
.drop.over,
.drop:focus-within {
  border-style: solid;
  outline: 2px solid var(--metal);
  outline-offset: -1px;
}
.drop input {
  position: absolute;
  opacity: 0;
  width: 1px;
}
section > p {
  margin: 12px 0;
}
section {
  border-top: 1px solid var(--rule);
  padding: 14px 0;
}
.source {
  width: 280px;
}
.why {
  max-width: 560px;
  margin-top: 8px;
}
</style>
