<script setup lang="ts">
// What became of the lines of a file, or would: how many, why some were not taken, and where the first devices stand.
import { computed } from 'vue'
import type { FileResult } from '../api/client'
import { count } from '../composables/format'

const props = defineProps<{ result: FileResult }>()
const shown = 40
const taken = computed(() => props.result.taken)
const lines = computed(() =>
  taken.value.results.filter((r) => r.device || r.error || r.refused?.length).slice(0, shown),
)
const unsaid = computed(() => lines.value.some((r) => r.error || r.refused?.length))
const left = computed(() => taken.value.results.length + (taken.value.more ?? 0) - lines.value.length)
</script>

<template>
  <div class="import" aria-live="polite">
    <p :class="{ done: !taken.dry }" role="status">
      <strong>{{ taken.dry ? 'Nothing is taken yet. It would be:' : 'Taken:' }}</strong>
      {{ count(taken.accepted, 'report') }} with {{ count(taken.readings, 'value')
      }}<template v-if="taken.rejected">; {{ count(taken.rejected, 'report') }} refused</template
      ><template v-if="result.lost">; {{ count(result.lost, 'line') }} of which no report can be made</template
      ><template v-if="taken.refused">; {{ count(taken.refused, 'value') }} refused</template
      ><template v-if="taken.waiting">; {{ taken.waiting }} wait until another source makes their device known</template
      >.
    </p>
    <p v-if="taken.gone?.devices" :class="{ bad: taken.gone.held }" role="alert">
      {{ count(taken.gone.devices, 'device') }} no longer listed: {{ taken.gone.some?.slice(0, 5).join(', ')
      }}{{ taken.gone.devices > 5 ? ` and ${taken.gone.devices - 5} more` : '' }}.
      <template v-if="taken.gone.held">Held back: {{ taken.gone.held }}.</template>
      <template v-else>What the source said of them is unavailable now.</template>
    </p>
    <div v-if="taken.reasons?.length || result.remarks.length" class="scroll">
      <table class="ruled small">
        <thead>
          <tr>
            <th>First at line</th>
            <th>What</th>
            <th>Why it is not taken</th>
            <th class="number">Times</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in taken.reasons ?? []" :key="`${r.what}${r.message}`">
            <td>{{ r.line }}</td>
            <td>
              <code>{{ r.what }}</code>
            </td>
            <td>{{ r.message }}</td>
            <td class="number">{{ r.count }}</td>
          </tr>
          <tr v-for="(r, i) in result.remarks" :key="i">
            <td>{{ r.item }}</td>
            <td>
              <code>{{ r.attribute || 'the line' }}</code>
            </td>
            <td>{{ r.message }}</td>
            <td class="number">1</td>
          </tr>
        </tbody>
      </table>
      <p v-if="result.more" class="soft small">and {{ result.more }} more</p>
    </div>
    <div v-if="lines.length > 0" class="scroll">
      <table class="ruled small">
        <thead>
          <tr>
            <th>Line</th>
            <th>Device</th>
            <th>{{ taken.dry ? 'Would stand at' : 'Stands at' }}</th>
            <th>Before</th>
            <th v-if="unsaid">Not taken</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in lines" :key="r.line">
            <td>{{ r.line || '' }}</td>
            <td>
              <router-link
                v-if="r.device && !(taken.dry && r.new)"
                :to="{ name: 'device', params: { id: r.device } }"
                >{{ r.device }}</router-link
              >
              <template v-else>{{ r.device }}</template>
            </td>
            <td>{{ r.level }}</td>
            <td class="soft">{{ r.new ? 'not known' : r.previous_level !== r.level ? r.previous_level : '' }}</td>
            <td v-if="unsaid">
              {{
                [r.error, ...(r.refused ?? []).map((x) => `${x.attribute}: ${x.message}`)].filter(Boolean).join('; ')
              }}
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="left > 0" class="soft small">and {{ count(left, 'line') }} more</p>
    </div>
  </div>
</template>

<style scoped>
.scroll {
  overflow-x: auto;
}
.done strong {
  color: var(--verdigris, inherit);
}
</style>
