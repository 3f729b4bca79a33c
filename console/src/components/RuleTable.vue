<script setup lang="ts">
// Rules with what they say of the devices in service; each number leads to the devices that it counts.
import { num } from '../composables/format'
import type { Rule } from '../api/client'

defineProps<{ rules: Rule[]; /** The query of the draft's form in place of the page of a rule. */ draft?: boolean }>()

const verdicts = ['pass', 'fail', 'unknown', 'grace', 'waived'] as const
const heads = { pass: 'Pass', fail: 'Fail', unknown: 'Not known', grace: 'In grace', waived: 'Excepted' }
const of = (r: Rule) => {
  const [baseline, rule] = r.rule.split('/')
  return { name: 'rule', params: { baseline, rule } }
}
</script>

<template>
  <div class="scrolls">
    <table class="ruled">
      <thead>
        <tr>
          <th>Rule</th>
          <th>Holds at</th>
          <th v-for="v in verdicts" :key="v" class="right">{{ heads[v] }}</th>
          <th class="right">Binds</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in rules" :key="r.rule" :class="{ quiet: r.mode !== 'enforce' }">
          <td>
            <router-link :to="draft ? { query: { rule: r.rule } } : of(r)">{{ r.title || r.rule }}</router-link>
            <div class="soft small">
              <code>{{ r.rule }}</code><template v-if="r.mode !== 'enforce'"> · {{ r.mode }}, no effect</template
              ><template v-if="r.grace"> · grace {{ r.grace }}</template
              ><template v-if="!r.waivable"> · nobody may be excepted</template>
            </div>
          </td>
          <td>
            {{ r.cap }}
            <div v-if="r.unknown !== r.cap" class="soft small">not known: {{ r.unknown }}</div>
          </td>
          <td v-for="v in verdicts" :key="v" class="right" :class="{ bad: v === 'fail' && r.counts.fail > 0 }">
            <router-link v-if="r.counts[v] > 0" :to="{ name: 'devices', query: { rule: r.rule, verdict: v } }">{{
              num(r.counts[v])
            }}</router-link>
            <span v-else class="soft">·</span>
          </td>
          <td class="right">{{ num(r.counts.binding, '·') }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.right {
  text-align: right;
  padding-right: 22px;
}
.bad {
  font-weight: 600;
  color: var(--metal);
}
.quiet {
  color: var(--ink-soft);
}
</style>
