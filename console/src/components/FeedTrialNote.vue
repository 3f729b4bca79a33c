<script setup lang="ts">
// What a partner answered to a trial, and what its items would become.
import type { FeedTrial } from '../api/client'

defineProps<{ trial: FeedTrial; mapped: boolean }>()
const steps = { 'sign-in': 'signing in', answer: 'its answer', items: 'its items' }
const text = (v: unknown) => (typeof v === 'string' ? v : JSON.stringify(v))
type Report = { evidence?: Record<string, unknown>; identity?: Record<string, unknown> } & Record<string, unknown>
/** A report in rows: keys and when, then what it says. */
function rows(report: unknown): [string, string][] {
  const { evidence, identity, ...rest } = (report ?? {}) as Report
  return Object.entries({ ...rest, ...identity, ...evidence }).map(([k, v]) => [k, text(v)])
}
</script>

<template>
  <div v-if="trial.failure" class="failure" role="alert">
    It went wrong at {{ trial.step ? steps[trial.step] : 'the partner' }}: {{ trial.failure }}
  </div>
  <p v-if="trial.status" role="status">
    The partner answers <strong>{{ trial.status }}</strong> with {{ trial.type
    }}<template v-if="trial.list_at"
      >, its items at <code>{{ trial.list_at }}</code></template
    >{{ trial.more ? '; there is more.' : '.' }}
    <template v-if="trial.clock">Its clock is {{ trial.clock }}.</template>
  </p>
  <template v-if="!mapped && trial.items[0]">
    <p class="soft small">The first item, as the partner has it:</p>
    <pre class="raw">{{ JSON.stringify(trial.items[0].raw, null, 2) }}</pre>
  </template>
  <template v-if="mapped">
    <section v-for="i in trial.items" :key="i.item" class="item">
      <p>
        <strong>Item {{ i.item }}</strong>
        <template v-if="i.fate"
          >: {{ i.fate
          }}<template v-if="i.device"
            >, <code>{{ i.device }}</code></template
          ></template
        >
        <span v-if="i.error" class="failure">: {{ i.error }}</span>
      </p>
      <dl v-if="i.report">
        <template v-for="[k, v] in rows(i.report)" :key="k">
          <dt>{{ k }}</dt>
          <dd>{{ v }}</dd>
        </template>
      </dl>
      <p v-for="r in i.remarks ?? []" :key="r.attribute + r.message" class="small failure">
        <code>{{ r.attribute }}</code>: {{ r.message }}
      </p>
    </section>
  </template>
</template>

<style scoped>
.failure {
  color: var(--metal);
}
.raw {
  border: 1px solid var(--rule);
  background: var(--sheet);
  padding: 8px 12px;
  max-height: 260px;
  overflow: auto;
}
.item {
  border-top: 1px solid var(--rule);
  padding: 8px 0;
}
dl {
  display: grid;
  grid-template-columns: 180px 1fr;
  gap: 2px 16px;
  margin: 0;
  font-size: 13px;
}
dt {
  color: var(--ink-soft);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
</style>
