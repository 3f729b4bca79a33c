<script setup lang="ts">
// What stands where in a partner's items, and what is made of it.
import { computed } from 'vue'
import type { Mapped } from '../composables/feeds'

const rows = defineModel<Mapped[]>({ required: true })
const props = defineProps<{ targets: string[]; types: Record<string, string>; plain?: boolean }>()
/** Where something stands: of a table the column's name alone. */
const nameOf = (at: string) => (props.plain ? at.replace(/^\//, '').replaceAll('~1', '/').replaceAll('~0', '~') : at)
const typeOf = (target: string) => (target === 'observed_at' ? 'time' : props.types[target.replace(/^evidence\./, '')])

/** Targets that two places share: one of them would be lost. */
const twice = computed(() => {
  const seen = new Set<string>()
  return rows.value.filter((r) => r.target && (seen.has(r.target) || !seen.add(r.target))).map((r) => r.target)
})
const choices = computed(() => props.targets.map((t) => ({ value: t, label: t.replace(/^evidence\./, '') })))
</script>

<template>
  <p v-if="twice.length > 0" class="bad" role="alert">
    {{ twice.join(', ') }} is taken from two places; leave one of them out.
  </p>
  <table class="ruled">
    <thead>
      <tr>
        <th>{{ plain ? 'Column' : 'At' }}</th>
        <th>Says</th>
        <th class="target">Is our</th>
        <th>In words, or a form</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="r in rows" :key="r.at" :class="{ soft: !r.target }">
        <td>
          <code>{{ nameOf(r.at) }}</code>
        </td>
        <td class="says">{{ r.values.join(', ') }}</td>
        <td>
          <el-select
            v-model="r.target"
            filterable
            clearable
            placeholder="nothing"
            :aria-label="`What ${nameOf(r.at)} is`"
            :value-on-clear="''"
          >
            <el-option v-for="c in choices" :key="c.value" :value="c.value" :label="c.label" />
          </el-select>
        </td>
        <td>
          <template v-if="r.target">
            <el-input
              v-model="r.words"
              :aria-label="`Words of ${nameOf(r.at)}`"
              placeholder="their word: ours, …"
              class="words"
            />
            <el-input
              v-if="typeOf(r.target) === 'time' || r.form"
              v-model="r.form"
              :aria-label="`Form of ${nameOf(r.at)}`"
              placeholder="form of a time"
              class="short"
            />
            <el-input
              v-if="typeOf(r.target) === 'duration' || r.unit"
              v-model="r.unit"
              :aria-label="`Unit of ${nameOf(r.at)}`"
              placeholder="unit"
              class="tiny"
            />
          </template>
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.says {
  max-width: 220px;
  overflow-wrap: anywhere;
}
.target {
  width: 230px;
}
.words {
  width: 200px;
}
.short {
  width: 120px;
  margin-left: 6px;
}
.tiny {
  width: 60px;
  margin-left: 6px;
}
.bad {
  color: var(--metal);
}
</style>
