<script setup lang="ts">
// The words that people put on a device, what they noted of it and whose they said it is, to be changed where
// somebody may.
import { computed, ref } from 'vue'
import { api, must, type DeviceTags } from '../api/client'
import { useAct } from '../composables/useAct'
import { useSession } from '../stores/session'
import ProblemNote from './ProblemNote.vue'

const props = defineProps<{ device: string; tags?: DeviceTags }>()
const emit = defineEmits<{ changed: [] }>()
const session = useSession()
const list = computed(() => props.tags?.tags ?? [])
const may = computed(() => session.can('POST /api/v1/devices/tags'))
const open = ref(false)
const add = ref('')
const note = ref('')
const owner = ref('')
const { busy, problem, act } = useAct()
function edit() {
  add.value = ''
  note.value = props.tags?.note ?? ''
  owner.value = props.tags?.owner ?? ''
  open.value = !open.value
}
async function put(body: { add?: string[]; remove?: string[]; note?: string; owner?: string }) {
  const done = await act(() => must(api.POST('/api/v1/devices/tags', { body: { devices: [props.device], ...body } })))
  if (done) {
    open.value = false
    emit('changed')
  }
}
const save = () => put({ add: add.value.split(/[\s,]+/).filter(Boolean), note: note.value, owner: owner.value.trim() })
</script>

<template>
  <div class="small tags">
    <span v-for="t in list" :key="t" class="tag">
      <router-link :to="{ name: 'devices', query: { where: `tags contains &quot;${t}&quot;` } }">{{ t }}</router-link>
      <button v-if="may" type="button" :aria-label="`Take off ${t}`" :disabled="busy" @click="put({ remove: [t] })">
        ×
      </button>
    </span>
    <span v-if="tags?.note" class="soft">{{ tags.note }}</span>
    <span v-if="tags?.owner" class="soft" title="It counts where no source says another">
      Of <router-link :to="{ name: 'person', params: { id: tags.owner } }">{{ tags.owner }}</router-link>, set by hand
    </span>
    <el-button v-if="may" link size="small" @click="edit">Tags, note, owner…</el-button>
    <form v-if="open" @submit.prevent="save">
      <label>Put on <input v-model="add" name="add" placeholder="pilot" /></label>
      <label>Note <input v-model="note" name="note" maxlength="500" /></label>
      <label>Owner <input v-model="owner" name="owner" placeholder="where no source says it" /></label>
      <el-button size="small" native-type="submit" type="primary" :loading="busy">Save</el-button>
    </form>
    <ProblemNote v-if="problem" :problem="problem" @again="save" />
  </div>
</template>

<style scoped>
.tags {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: baseline;
}
.tag {
  border: 1px solid var(--rule);
  padding: 0 6px;
}
.tag button {
  border: 0;
  background: none;
  color: var(--ink-soft);
  cursor: pointer;
  font: inherit;
}
form {
  display: flex;
  flex-wrap: wrap;
  gap: 10px;
  align-items: baseline;
  width: 100%;
}
input {
  font: inherit;
  color: inherit;
  background: var(--sheet);
  border: 1px solid var(--rule);
  padding: 2px 6px;
}
</style>
