<script setup lang="ts">
// Finds any page, device, person, resource, rule, gate or decision by a few letters: Ctrl-K.
import { computed, nextTick, onMounted, onUnmounted, ref, watch } from 'vue'
import { useRouter, type RouteLocationRaw } from 'vue-router'
import { api, must } from '../api/client'
import type { Group } from '../composables/menu'
import { useSession } from '../stores/session'

const props = defineProps<{ groups: Group[] }>()
const router = useRouter()
const session = useSession()

interface Found {
  kind: string
  name: string
  more?: string
  to: RouteLocationRaw
}

const dialog = ref<HTMLDialogElement>()
const field = ref<HTMLInputElement>()
const text = ref('')
const at = ref(0)
const busy = ref(false)
const asked = ref<Found[]>([])
/** What is known by name, read when somebody looks for the first time: rules, gates, resources. */
const named = ref<Found[] | null>(null)

const most = 6
const holds = (f: Found, q: string) => `${f.name} ${f.more ?? ''}`.toLowerCase().includes(q)
const pages = computed<Found[]>(() => [
  ...props.groups.flatMap((g) => g.pages.map((p) => ({ kind: 'Page', name: p.title, more: g.name, to: p.to }))),
  ...(session.can('GET /api/v1/alerts') ? [{ kind: 'Page', name: 'What needs you', to: '/alerts' }] : []),
])
const found = computed<Found[]>(() => {
  const q = text.value.trim().toLowerCase()
  if (q === '') return pages.value
  return [
    ...pages.value.filter((f) => holds(f, q)),
    ...(named.value ?? []).filter((f) => holds(f, q)).slice(0, 3 * most),
    ...asked.value,
  ]
})

async function readNames() {
  const out: Found[] = []
  if (session.can('GET /api/v1/rules')) {
    const rules = await must(api.GET('/api/v1/rules'))
    for (const r of rules.items) out.push({ kind: 'Rule', name: r.rule, more: r.title, to: `/rules/${r.rule}` })
  }
  if (session.can('GET /api/v1/gates')) {
    const gates = await must(api.GET('/api/v1/gates'))
    for (const g of gates.items)
      out.push({
        kind: 'Gate',
        name: `${g.number || ''} ${g.id}`.trim(),
        more: g.title,
        to: { name: 'gate-form', query: { gate: g.id } },
      })
  }
  const vocabulary = await must(api.GET('/api/v1/vocabulary'))
  for (const r of vocabulary.resources)
    out.push({ kind: 'Resource', name: r.id, more: r.title, to: { name: 'decisions', query: { resource: r.id } } })
  named.value = out
}

async function devicesWith(q: string): Promise<Found[]> {
  if (!session.can('GET /api/v1/devices')) return []
  const got = await must(api.GET('/api/v1/devices', { params: { query: { q, limit: most, retired: 'with' } } }))
  return got.items.map((d) => ({
    kind: 'Device',
    name: d.id,
    more: [d.name, d.owner, d.level, d.retired ? 'retired' : ''].filter(Boolean).join(', '),
    to: { name: 'device', params: { id: d.id } },
  }))
}

async function peopleWith(q: string): Promise<Found[]> {
  if (!session.can('GET /api/v1/people')) return []
  const got = await must(api.GET('/api/v1/people', { params: { query: { q, limit: most } } }))
  return got.items.map((p) => ({
    kind: 'Person',
    name: p.id,
    more: p.name,
    to: { name: 'person', params: { id: p.id } },
  }))
}

async function decisionOf(q: string): Promise<Found[]> {
  if (!session.can('GET /api/v1/decisions/{id}') || !/^[0-9a-z-]{6,24}$/i.test(q)) return []
  const { data } = await api.GET('/api/v1/decisions/{id}', { params: { path: { id: q } } })
  if (!data) return []
  return [
    {
      kind: 'Decision',
      name: data.code ?? data.id ?? q,
      more: `${data.outcome}: ${data.asked.subject.id}, ${data.asked.resource.id}`,
      to: { name: 'decision', params: { id: data.id ?? q } },
    },
  ]
}

/** The devices and people that hold a text, and the decision that a code or an id is of: all asked for at once. */
async function look(q: string): Promise<Found[]> {
  return (await Promise.all([devicesWith(q), peopleWith(q), decisionOf(q)])).flat()
}

let latest = 0
let due: ReturnType<typeof setTimeout> | undefined
watch(text, (t) => {
  at.value = 0
  clearTimeout(due)
  const q = t.trim()
  const mine = ++latest
  if (q.length < 2) {
    asked.value = []
    return
  }
  due = setTimeout(async () => {
    busy.value = true
    try {
      const got = await look(q)
      if (mine === latest) asked.value = got
    } catch {
      if (mine === latest) asked.value = [] // the pages are found all the same
    } finally {
      if (mine === latest) busy.value = false
    }
  }, 150)
})

async function show() {
  if (dialog.value?.open) return
  text.value = ''
  asked.value = []
  dialog.value?.showModal()
  await nextTick()
  field.value?.focus()
  if (named.value === null) await readNames().catch(() => (named.value = []))
}

async function go(f: Found | undefined) {
  if (!f) return
  dialog.value?.close()
  await router.push(f.to)
}

function key(e: KeyboardEvent) {
  const step = { ArrowDown: 1, ArrowUp: -1 }[e.key]
  if (step) {
    e.preventDefault()
    const n = found.value.length
    at.value = n ? (at.value + step + n) % n : 0
    void nextTick(() => document.getElementById(`found-${at.value}`)?.scrollIntoView({ block: 'nearest' }))
  } else if (e.key === 'Enter') {
    e.preventDefault()
    void go(found.value[at.value])
  }
}

function shortcut(e: KeyboardEvent) {
  if ((e.ctrlKey || e.metaKey) && !e.shiftKey && !e.altKey && e.key.toLowerCase() === 'k') {
    e.preventDefault()
    void show()
  }
}
onMounted(() => window.addEventListener('keydown', shortcut))
onUnmounted(() => window.removeEventListener('keydown', shortcut))
</script>

<template>
  <button class="find" type="button" @click="show">Find… <kbd>Ctrl K</kbd></button>
  <dialog ref="dialog" aria-label="Find anything" @click.self="dialog?.close()">
    <input
      ref="field"
      v-model="text"
      type="text"
      name="find"
      role="combobox"
      aria-expanded="true"
      aria-controls="found"
      :aria-activedescendant="`found-${at}`"
      autocomplete="off"
      placeholder="A device, person, resource, rule, gate, code of a decision, or page"
      @keydown="key"
    />
    <ul id="found" role="listbox">
      <li
        v-for="(f, i) in found"
        :id="`found-${i}`"
        :key="f.kind + f.name"
        role="option"
        :aria-selected="i === at"
        :class="{ on: i === at }"
        @mousemove="at = i"
        @click="go(f)"
      >
        <span class="kind soft small">{{ f.kind }}</span>
        <strong>{{ f.name }}</strong>
        <span class="soft small">{{ f.more }}</span>
      </li>
      <li v-if="found.length === 0" class="none soft">
        {{ busy ? 'Looking…' : 'Nothing is called so.' }}
      </li>
    </ul>
  </dialog>
</template>

<style scoped>
.find {
  background: none;
  border: 1px solid var(--rule);
  border-radius: 2px;
  color: var(--ink-soft);
  font-size: 13px;
  padding: 4px 10px;
  cursor: pointer;
}
kbd {
  font: inherit;
  border-left: 1px solid var(--rule);
  padding-left: 8px;
  margin-left: 4px;
}
dialog {
  width: min(640px, calc(100vw - 28px));
  margin: 12vh auto auto;
  padding: 0;
  border: 1px solid var(--rule-strong);
  background: var(--sheet);
  color: inherit;
}
dialog::backdrop {
  background: rgb(20 23 28 / 35%);
}
input {
  width: 100%;
  border: 0;
  border-bottom: 1px solid var(--rule-strong);
  background: none;
  color: inherit;
  font-size: 16px;
  padding: 14px 16px;
}
input:focus {
  outline: none;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
  max-height: 50vh;
  overflow: auto;
}
li {
  display: flex;
  gap: 10px;
  align-items: baseline;
  padding: 7px 16px;
  border-bottom: 1px solid var(--rule);
  cursor: pointer;
  white-space: nowrap;
  overflow: hidden;
}
li.on {
  background: var(--metal-soft);
  box-shadow: inset 3px 0 var(--metal);
}
li.none {
  cursor: default;
}
.kind {
  width: 68px;
  flex: none;
}
@media (max-width: 820px) {
  kbd {
    display: none;
  }
}
</style>
