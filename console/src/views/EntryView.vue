<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, must } from '../api/client'
import CopyText from '../components/CopyText.vue'
import EntrySubject from '../components/EntrySubject.vue'
import ProblemNote from '../components/ProblemNote.vue'
import ReasonForm from '../components/ReasonForm.vue'
import TimeText from '../components/TimeText.vue'
import { useLoad } from '../composables/useLoad'
import { useSession } from '../stores/session'

const props = defineProps<{ seq: string }>()
const session = useSession()
const {
  data: entry,
  problem,
  loading,
  again,
} = useLoad(
  () => must(api.GET('/api/v1/ledger/entries/{seq}', { params: { path: { seq: Number(props.seq) } } })),
  () => props.seq,
)
const redacting = ref(false)
const redact = (reason: string) =>
  must(
    api.POST('/api/v1/ledger/entries/{seq}/redact', { params: { path: { seq: Number(props.seq) } }, body: { reason } }),
  )
function redacted() {
  redacting.value = false
  return again()
}
const size = computed(() => entry.value?.path.at(-1)?.last ?? 1)
const body = computed(() => JSON.stringify(entry.value?.body, null, 2))
const proof = computed(() => JSON.stringify(entry.value?.proof, null, 2))
const row = 13
const at = (n: number) => (1000 * (n - 1)) / size.value
const span = (first: number, last: number) => Math.max(2, (1000 * (last - first + 1)) / size.value)
const range = (first: number, last: number) => (first === last ? `entry ${first}` : `entries ${first} to ${last}`)
</script>

<template>
  <p class="small"><router-link to="/ledger">Ledger</router-link></p>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-else-if="!entry && loading" :rows="10" animated />
  <article v-else-if="entry">
    <header>
      <div>
        <h1>Entry {{ entry.seq }}</h1>
        <p>
          <code>{{ entry.kind }}</code> {{ entry.gist }}
        </p>
      </div>
      <nav aria-label="Entries beside it">
        <router-link v-if="entry.seq > 1" :to="{ name: 'entry', params: { seq: entry.seq - 1 } }"
          >← {{ entry.seq - 1 }}</router-link
        >
        <router-link v-if="entry.seq < size" :to="{ name: 'entry', params: { seq: entry.seq + 1 } }"
          >{{ entry.seq + 1 }} →</router-link
        >
      </nav>
    </header>
    <dl>
      <div>
        <dt>When</dt>
        <dd>
          <TimeText :time="entry.at" /> <span class="soft small">{{ entry.at }}</span>
        </dd>
      </div>
      <div>
        <dt>By</dt>
        <dd>
          <router-link :to="{ name: 'ledger', query: { actor: entry.actor } }">{{ entry.actor }}</router-link>
        </dd>
      </div>
      <div v-if="entry.about">
        <dt>About</dt>
        <dd><EntrySubject :kind="entry.kind" :about="entry.about" /></dd>
      </div>
      <div>
        <dt>Leaf</dt>
        <dd>
          <CopyText :text="entry.leaf"
            ><code>{{ entry.leaf.slice(0, 20) }}…</code></CopyText
          >
        </dd>
      </div>
    </dl>

    <h2>Body</h2>
    <p v-if="entry.archive" class="gone">
      What it says is not here: {{ entry.where }}. Its hash stays, and so does every proof.
      <CopyText :text="`ironledger ledger archive show ${entry.archive}.ndjson.gz --entry ${entry.seq}`"
        ><code>ironledger ledger archive show … --entry {{ entry.seq }}</code></CopyText
      >
      reads it out of the file.
    </p>
    <p v-else-if="entry.redacted" class="gone">
      Its body was removed<template v-if="entry.redacted_by"
        >;
        <router-link :to="{ name: 'entry', params: { seq: entry.redacted_by } }"
          >entry {{ entry.redacted_by }}</router-link
        >
        tells why</template
      >. Its hash stays, and so does every proof.
    </p>
    <template v-else>
      <pre tabindex="0">{{ body }}</pre>
      <p class="small"><CopyText :text="entry.canonical ?? ''">Canonical form, which is hashed (RFC 8785)</CopyText></p>
    </template>

    <h2>Its place in the tree</h2>
    <p>
      {{ entry.path.length }} hashes lead from it to the root of the {{ size.toLocaleString('en') }} entries that are
      signed. <CopyText :text="proof">Copy the proof</CopyText> and check it anywhere with
      <code>ironledger ledger check-proof - --key …</code>
    </p>
    <div class="tree">
      <svg
        v-if="entry.path.length > 0"
        :viewBox="`0 0 1000 ${row * (entry.path.length + 1)}`"
        preserveAspectRatio="none"
        :style="{ height: `${row * (entry.path.length + 1) * 1.6}px` }"
        role="img"
        :aria-label="`Entry ${entry.seq} of ${size}, and the ranges of entries that are joined with it on the way to the root`"
      >
        <rect class="own" :x="at(entry.seq)" :width="span(entry.seq, entry.seq)" y="0" :height="row - 3" />
        <g v-for="(s, i) in entry.path" :key="i">
          <rect class="own" :x="at(s.first)" :width="span(s.first, s.last)" :y="row * (i + 1)" :height="row - 3" />
          <rect
            class="beside"
            :x="at(s.beside_first)"
            :width="span(s.beside_first, s.beside_last)"
            :y="row * (i + 1)"
            :height="row - 3"
          />
        </g>
      </svg>
      <table class="ruled small">
        <thead>
          <tr>
            <th>Joined with</th>
            <th>whose hash is</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(s, i) in entry.path" :key="i">
            <td class="nowrap"><span class="key" />{{ range(s.beside_first, s.beside_last) }}</td>
            <td>
              <code>{{ s.hash.slice(0, 20) }}…</code>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <details>
      <summary>The signed head it is proven against</summary>
      <pre tabindex="0">{{ entry.proof.checkpoint }}</pre>
    </details>

    <template v-if="session.can('POST /api/v1/ledger/entries/{seq}/redact') && entry.body">
      <p v-if="!redacting" class="small"><el-button link @click="redacting = true">Remove its body…</el-button></p>
      <template v-else>
        <p class="soft small">
          For data of a person that must go. The hash stays; that it was done, by whom and why is recorded. It cannot be
          undone.
        </p>
        <ReasonForm label="Remove the body" :what="redact" @done="redacted" @cancel="redacting = false" />
      </template>
    </template>
  </article>
</template>

<style scoped>
header {
  display: flex;
  justify-content: space-between;
  align-items: baseline;
}
header nav {
  display: flex;
  gap: 18px;
}
dl {
  display: flex;
  gap: 32px;
  flex-wrap: wrap;
}
dt {
  color: var(--ink-soft);
  font-size: 13px;
}
dd {
  margin: 0;
}
pre {
  background: var(--sheet);
  border: 1px solid var(--rule);
  padding: 10px 14px;
  overflow: auto;
  max-height: 300px;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
.tree {
  display: grid;
  grid-template-columns: 1fr auto;
  gap: 28px;
  align-items: start;
}
svg {
  width: 100%;
  display: block;
  margin-top: 6px;
}
.own {
  fill: color-mix(in srgb, var(--ink-soft) 25%, var(--sheet));
}
.beside {
  fill: var(--metal);
}
.key {
  display: inline-block;
  width: 10px;
  height: 10px;
  background: var(--metal);
  margin-right: 8px;
}
.gone {
  border-left: 3px solid var(--metal);
  padding-left: 14px;
}
@media (max-width: 820px) {
  .tree {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
