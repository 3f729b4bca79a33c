<script setup lang="ts">
// The standing of a device: its level, why, what ends soon, and one ruled row
// a rule, with what to do in the margin.
import { computed } from 'vue'
import type { Device, Ruling } from '../api/client'
import { remedyText } from '../composables/format'
import ExceptionForm from './ExceptionForm.vue'
import LeafRow from './LeafRow.vue'
import LevelMark from './LevelMark.vue'
import LinkedText from './LinkedText.vue'
import TimeText from './TimeText.vue'

const props = defineProps<{ device: Device; waivable?: boolean }>()
const emit = defineEmits<{ changed: [] }>()
const device = computed(() => props.device)
const waiving = defineModel<string>('waiving', { default: '' })

const held = (v: Ruling) => v.holds_at !== undefined || v.verdict === 'grace' || v.verdict === 'waived'
/** What holds the device down first, the binding rules before the others. */
const rulings = computed(() => {
  const place = (v: Ruling) => (v.shadow ? 3 : v.binding ? 0 : held(v) ? 1 : 2)
  return [...device.value.standing.verdicts].sort((a, b) => place(a) - place(b))
})
const cures = computed(() => {
  const seen = new Set<string>()
  return rulings.value
    .filter((v) => v.mend)
    .flatMap((v) => {
      const text = remedyText(v.remedy)
      if (!text || seen.has(text.title + text.steps)) return []
      seen.add(text.title + text.steps)
      return [{ rule: v.rule, until: v.grace_until, ...text }]
    })
})
const next = computed(() => device.value.standing.reach[0])
// What it takes to get there: rules, and a person who lifts their order.
const steps = computed(() => {
  const all = next.value?.rules ?? []
  const rules = all.filter((r) => r !== 'quarantine')
  return [
    ...(rules.length < all.length ? ['be released from quarantine'] : []),
    ...(rules.length > 0 ? [`pass ${rules.join(', ')}`] : []),
  ].join(' and ')
})
const soon = computed(() =>
  [
    ...device.value.waivers
      .filter((g) => g.state === 'live')
      .map((g) => ({ what: `waiver of ${g.rule}`, until: g.until, by: g.author, why: g.reason })),
    ...device.value.vouches
      .filter((g) => g.state === 'live')
      .map((g) => ({ what: 'vouched for', until: g.until, by: g.author, why: g.reason })),
    ...device.value.standing.verdicts
      .filter((v) => v.grace_until)
      .map((v) => ({ what: `grace of ${v.rule}`, until: v.grace_until!, by: '', why: '' })),
    ...device.value.certificates
      .filter((c) => c.state === 'ending')
      .map((c) => ({ what: `certificate ${c.subject}`, until: c.not_after, by: '', why: '' })),
  ].sort((a, b) => a.until.localeCompare(b.until)),
)

function granted() {
  waiving.value = ''
  emit('changed')
}
</script>

<template>
  <div class="page">
    <section class="standing">
      <LevelMark :level="device.level" :rank="device.rank" :top="device.top" large />
      <div>
        <p v-if="device.outside" class="threat">
          <strong>Not one of ours</strong>: {{ device.outside }}. Decisions take it for an unknown device.
        </p>
        <p>
          <template v-if="!device.covered"
            >No enforced baseline asks anything of this device for certain, so it stands no higher than an uncovered
            one.<template v-if="device.binding.length > 0">
              Held at {{ device.level }} by <strong>{{ device.binding.join(', ') }}</strong>.</template
            >
          </template>
          <template v-else-if="device.binding.length > 0"
            >Held at {{ device.level }} by <strong>{{ device.binding.join(', ') }}</strong>.</template
          >
          <template v-else>Nothing holds it down.</template>
          <template v-if="next && next.rules.length > 0">
            To reach <strong>{{ next.level }}</strong>, it must {{ steps }}.</template
          >
        </p>
        <p class="soft small">
          {{ device.level }} since <TimeText :time="device.since" />, last seen <TimeText :time="device.seen_at" />,
          <template v-if="device.standing.next_change"
            >may change by itself <TimeText :time="device.standing.next_change" />
          </template>
          <template v-else>does not change by itself</template>.
          <template v-if="device.shadow_level">
            Were the shadow baselines enforced, it would be <strong>{{ device.shadow_level }}</strong>.</template
          >
        </p>
        <ul v-if="soon.length > 0" class="soon small" aria-label="What ends by itself">
          <li v-for="s in soon" :key="s.what">
            <strong>{{ s.what }}</strong> ends <TimeText :time="s.until" />
            <template v-if="s.why">: {{ s.why }} ({{ s.by }})</template>
          </li>
        </ul>
        <p v-for="t in device.threats" :key="t.id" class="threat">
          <strong>{{ t.severity }} threat</strong>: {{ t.title || t.id
          }}<template v-if="t.at">, since <TimeText :time="t.at" /></template>, says {{ t.source }}
        </p>
      </div>
    </section>

    <div class="sheet">
      <section>
        <table v-if="rulings.length > 0" class="ruled">
          <thead>
            <tr>
              <th>Rule</th>
              <th>Verdict</th>
              <th>Required</th>
              <th>Observed</th>
              <th>Source</th>
              <th>Age</th>
              <th>Holds at</th>
            </tr>
          </thead>
          <tbody v-for="v in rulings" :key="v.rule">
            <tr
              v-for="(leaf, i) in v.why"
              :key="i"
              :class="{ joined: i < v.why.length - 1, held: held(v) && !v.shadow }"
            >
              <td v-if="i === 0" :rowspan="v.why.length" class="rule">
                {{ v.title || v.rule }}
                <div class="soft small">{{ v.rule }}</div>
              </td>
              <td v-if="i === 0" :rowspan="v.why.length">
                <span class="verdict" :class="v.verdict">{{ v.verdict }}</span>
                <div v-if="v.shadow" class="soft small">shadow</div>
                <div v-if="v.grace_until ?? v.waived_until" class="soft small">
                  until <TimeText :time="(v.grace_until ?? v.waived_until)!" />
                </div>
                <div v-if="v.failing_since && v.verdict !== 'pass'" class="soft small">
                  fails since <TimeText :time="v.failing_since" />
                </div>
              </td>
              <LeafRow :leaf="leaf" />
              <td v-if="i === 0" :rowspan="v.why.length">
                {{ v.holds_at }}
                <div v-if="waivable && held(v) && v.verdict !== 'waived'">
                  <el-button link size="small" @click="waiving = v.rule">Waive…</el-button>
                </div>
              </td>
            </tr>
            <tr v-if="waiving === v.rule">
              <td :colspan="7">
                <ExceptionForm :device="device.id" :rule="v.rule" @done="granted" @cancel="waiving = ''" />
              </td>
            </tr>
          </tbody>
        </table>
        <p v-else class="soft">No rule speaks of this device.</p>
      </section>
      <aside v-if="cures.length > 0" aria-label="What to do">
        <h3>What to do</h3>
        <ol>
          <li v-for="c in cures" :key="c.rule">
            <strong>{{ c.title }}.</strong> <LinkedText :text="c.steps ?? ''" />
            <div class="soft small">
              {{ c.rule }}<template v-if="c.until">, before <TimeText :time="c.until" /> </template>
            </div>
          </li>
        </ol>
      </aside>
    </div>
  </div>
</template>

<style scoped>
.standing {
  display: flex;
  gap: 28px;
  align-items: center;
  border-top: 1px solid var(--rule-strong);
  border-bottom: 1px solid var(--rule-strong);
  padding: 14px 0 10px;
  margin: 10px 0 16px;
}
.standing p {
  margin-bottom: 4px;
}
.page {
  container-type: inline-size;
}
.sheet {
  display: flex;
  gap: 32px;
  align-items: flex-start;
}
@container (max-width: 1000px) {
  .sheet {
    flex-direction: column-reverse;
    align-items: stretch;
    gap: 12px;
  }
  .sheet aside {
    width: auto;
  }
}
.sheet > section {
  flex: 1;
  min-width: 0;
}
aside {
  width: 250px;
  border-left: 2px solid var(--metal);
  padding-left: 18px;
}
ol {
  padding-left: 18px;
  margin: 8px 0;
}
li {
  margin-bottom: 10px;
}
.rule {
  min-width: 170px;
}
.held .rule {
  font-weight: 600;
}
.verdict.fail {
  color: var(--metal);
  font-weight: 600;
}
.verdict.unknown,
.verdict.grace,
.verdict.waived {
  border-bottom: 1px dashed var(--metal);
}
.soon {
  list-style: none;
  padding: 0;
  margin: 0;
}
.threat {
  color: var(--metal);
  margin: 4px 0 0;
}
@media (max-width: 820px) {
  .standing {
    flex-direction: column;
    align-items: flex-start;
    gap: 8px;
  }
  .sheet > section {
    overflow-x: auto;
  }
}
</style>
