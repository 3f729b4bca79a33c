<script setup lang="ts">
// Setting a feed up, step by step, with the partner's answer at each: where it is and how we sign in,
// what it says, what that is in our words, how often.
import { computed, ref, shallowRef, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, must, type FeedTrial } from '../../api/client'
import FeedMap from '../../components/FeedMap.vue'
import FeedPages from '../../components/FeedPages.vue'
import FeedTrialNote from '../../components/FeedTrialNote.vue'
import FeedWhere from '../../components/FeedWhere.vue'
import ProblemNote from '../../components/ProblemNote.vue'
import {
  draftOf,
  mappedOf,
  mappingOf,
  rowsOf,
  settingsOf,
  simple,
  targetsOf,
  type Mapped,
} from '../../composables/feeds'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'

const props = defineProps<{ id?: string }>()
const router = useRouter()

const { data, problem, again } = useLoad(
  async () => {
    const [sources, vocabulary, feed] = await Promise.all([
      must(api.GET('/api/v1/sources')),
      must(api.GET('/api/v1/vocabulary')),
      props.id ? must(api.GET('/api/v1/feeds/{id}', { params: { path: { id: props.id } } })) : null,
    ])
    return { sources: sources.items, names: vocabulary.names, feed }
  },
  () => props.id,
)

const draft = ref(draftOf())
const items = ref('')
const rows = ref<Mapped[]>([])
/** A mapping that rows cannot show: it stays as it is. */
const fixed = shallowRef<Record<string, unknown> | null>(null)

watch(data, (d) => {
  const f = d?.feed
  if (!f) return
  draft.value = draftOf(f.feed, f.secret_until)
  const mapping = f.feed.mapping as Record<string, unknown>
  items.value = String(mapping.items ?? '')
  if (simple(mapping)) rows.value = rowsOf(mapping, [])
  else fixed.value = mapping
})

const mapping = computed(() => fixed.value ?? mappingOf(rows.value, items.value))
const trial = (mapped: boolean) =>
  must(
    api.POST('/api/v1/feeds/try', {
      body: {
        feed: settingsOf(draft.value, mapped ? mapping.value : null, data.value?.feed?.feed),
        ...(draft.value.secret ? { secret: draft.value.secret } : props.id ? { of: props.id } : {}),
      },
    }),
  )

const looked = shallowRef<FeedTrial | null>(null)
const { busy: looking, problem: unlooked, act: actLook } = useAct()
const look = () =>
  actLook(async () => {
    looked.value = await trial(false)
    items.value = looked.value.list_at ?? ''
    const { places } = looked.value
    if (fixed.value || places.length === 0) return
    const was = mappingOf(rows.value, '')
    rows.value = Object.keys(was).length > 0 ? rowsOf(was, places) : mappedOf(places)
  })

const tried = shallowRef<FeedTrial | null>(null)
const { busy: trying, problem: untried, act: actTry } = useAct()
const tryOut = () =>
  actTry(async () => {
    tried.value = await trial(true)
  })
// What was tried is no longer what is there.
watch([rows, () => draft.value.url, () => draft.value.source], () => (tried.value = null), { deep: true })

const { busy: adding, problem: unadded, act: actAdd } = useAct()
async function add() {
  const d = draft.value
  const body = {
    feed: settingsOf(d, mapping.value, data.value?.feed?.feed),
    ...(d.secret && { secret: d.secret }),
    ...(d.secret_until && d.by !== 'none' && { secret_until: `${d.secret_until}T00:00:00Z` }),
  }
  const ok = await actAdd(() =>
    props.id
      ? must(api.PUT('/api/v1/feeds/{id}', { params: { path: { id: props.id } }, body }))
      : must(api.POST('/api/v1/feeds', { body })),
  )
  if (ok) await router.push({ name: 'feed', params: { id: d.id.trim() } })
}

const targets = computed(() => targetsOf(draft.value.kind, data.value?.names ?? []))
const types = computed(() => Object.fromEntries((data.value?.names ?? []).map((n) => [n.name, n.type])))
const where = computed(() => {
  const d = draft.value
  return Boolean((d.place === 'url' ? d.url.trim() : d.folder.trim()) && (d.kind === 'people' || d.source))
})
const seen = computed(() => Boolean(looked.value && !looked.value.failure))
const understood = computed(() => Boolean(tried.value && !tried.value.failure))
</script>

<template>
  <p class="small"><router-link :to="{ name: 'feeds' }">All feeds</router-link></p>
  <h2 class="title">{{ id ? `Change the feed ${id}` : 'Set up a feed' }}</h2>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-if="!data && !problem" :rows="8" animated />
  <form v-if="data" @submit.prevent>
    <FeedWhere v-model="draft" :sources="data.sources" :there="Boolean(id)" />
    <p>
      <el-button type="primary" :loading="looking" :disabled="!where" @click="look">Ask the partner</el-button>
    </p>
    <ProblemNote v-if="unlooked" :problem="unlooked" />
    <FeedTrialNote v-if="looked" :trial="looked" :mapped="false" />

    <FeedPages v-if="seen && draft.place === 'url'" v-model="draft" />

    <section v-if="seen || id">
      <h3>4. What its items are in our words</h3>
      <p v-if="fixed" class="soft">
        This mapping says more than can be shown here; it stays as it is. Change it in a file, with
        <code>ironledger feed add --replace</code>.
      </p>
      <FeedMap v-else v-model="rows" :targets="targets" :types="types" />
      <p>
        <el-button type="primary" :loading="trying" :disabled="!where" @click="tryOut">See what they become</el-button>
      </p>
      <ProblemNote v-if="untried" :problem="untried" />
      <FeedTrialNote v-if="tried" :trial="tried" mapped />
    </section>

    <section v-if="understood">
      <h3>5. How often, and what it is called</h3>
      <div class="fields">
        <label>Id <el-input v-model="draft.id" name="id" :disabled="Boolean(id)" placeholder="fleet-desk" /></label>
        <label>Title <el-input v-model="draft.title" name="title" /></label>
        <label>Every <el-input v-model="draft.every" name="every" placeholder="15m" /></label>
        <el-checkbox v-model="draft.whole">What it does not list is gone</el-checkbox>
      </div>
      <p>
        <el-button type="primary" :loading="adding" :disabled="!draft.id.trim()" @click="add">{{
          id ? 'Change it, and fetch it' : 'Add it, and fetch it'
        }}</el-button>
      </p>
      <ProblemNote v-if="unadded" :problem="unadded" />
    </section>
  </form>
</template>

<style scoped>
.title {
  margin: 4px 0 12px;
  font-size: 22px;
}
section {
  border-top: 1px solid var(--rule);
  padding: 14px 0;
}
</style>
