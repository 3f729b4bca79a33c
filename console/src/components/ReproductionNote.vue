<script setup lang="ts">
// Something of the past computed again: whether it came out as it was recorded.
import type { Reproduction } from '../api/client'
import { full } from '../composables/format'

defineProps<{ reproduction: Reproduction }>()
const text = (v: unknown) => (v === undefined ? 'nothing' : JSON.stringify(v))
</script>

<template>
  <section class="again" :class="{ other: !reproduction.same }" role="status">
    <p>
      <strong>{{ reproduction.same ? '✓ The same.' : '✗ Different.' }}</strong>
      Computed again for {{ full(reproduction.at) }} from rulebook {{ reproduction.rulebook }}, revision
      {{ reproduction.device_revision ?? 0 }} of the device, {{ reproduction.people_revision }} of the people and
      {{ reproduction.roster_revision }} of the roster<template v-if="!reproduction.same"
        >, it is not what was recorded</template
      >.
    </p>
    <table v-if="reproduction.differences.length > 0" class="ruled small">
      <thead>
        <tr>
          <th>Where</th>
          <th>Recorded</th>
          <th>Computed again</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="d in reproduction.differences" :key="d.pointer">
          <td>
            <code>{{ d.pointer }}</code>
          </td>
          <td>{{ text(d.recorded) }}</td>
          <td>{{ text(d.computed) }}</td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
.again {
  border-left: 3px solid var(--good);
  padding-left: 14px;
  margin-top: 14px;
}
.again.other {
  border-color: var(--metal);
}
</style>
