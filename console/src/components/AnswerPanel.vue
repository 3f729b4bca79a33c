<script setup lang="ts">
// A decision in full: what was asked, the answer, what each gate says and why,
// and what would make it allow.
import { computed, ref } from 'vue'
import type { Answer, RecordedDecision } from '../api/client'
import { remedyText, span } from '../composables/format'
import { useSession } from '../stores/session'
import CopyText from './CopyText.vue'
import ExceptionForm from './ExceptionForm.vue'
import LeafRow from './LeafRow.vue'
import OutcomeMark from './OutcomeMark.vue'
import TimeText from './TimeText.vue'

/** recorded is where the answer is in the ledger, of a decision that was no trial. */
const props = defineProps<{ answer: Answer; recorded?: RecordedDecision }>()
const session = useSession()
const waiving = ref('')
const said = ref('')
function granted() {
  said.value = `${waiving.value} is waived for ${props.answer.device}. It holds from this moment: ask again, or have the person check again.`
  waiving.value = ''
}

const asked = computed(() => {
  const { context } = props.answer.asked
  const facts: string[] = []
  if (context?.ip) facts.push(`from ${context.ip}`)
  if (context?.country) facts.push(`in ${context.country}`)
  const { network } = context ?? {}
  if (network) {
    const by = { certificate: 'by its certificate', address: 'by its hardware address alone' }
    facts.push(by[context?.proof as keyof typeof by] ?? 'with nothing to prove it')
    if (network.address) facts.push(`from ${network.address}`)
    if (network.called) facts.push(`at ${network.called}`)
    if (network.claimed) facts.push('the person is only whom the device names')
    return facts.join(', ')
  }
  const mfa = context?.auth?.mfa
  facts.push(mfa === undefined ? 'second factor not said' : mfa ? 'with a second factor' : 'without a second factor')
  return facts.join(', ')
})
const isPerson = computed(() => props.answer.asked.subject.type !== 'device')
const cures = computed(() => {
  const seen = new Set<string>()
  return (props.answer.remedies ?? [])
    .map((r) => ({ ...r, text: remedyText(r.remedy) }))
    .filter((r) => {
      const key = r.text ? `${r.text.title}|${r.text.steps ?? ''}` : r.rule
      if (seen.has(key)) return false
      seen.add(key)
      return true
    })
})
</script>

<template>
  <article class="answer" aria-live="polite">
    <header>
      <OutcomeMark :outcome="answer.outcome" large />
      <span v-if="answer.code" class="soft">code <CopyText :text="answer.code" /></span>
      <span v-if="answer.break_glass" class="flag">break-glass account</span>
      <span v-if="answer.shadow_outcome" class="soft"
        >were the shadow gates enforced: <OutcomeMark :outcome="answer.shadow_outcome" />
      </span>
    </header>
    <p class="asked">
      <router-link v-if="isPerson" :to="{ name: 'person', params: { id: answer.asked.subject.id } }">{{
        answer.asked.subject.id
      }}</router-link>
      <template v-else>The device itself</template>,
      <strong>{{ answer.asked.action.name }} {{ answer.asked.resource.id }}</strong
      >,
      <template v-if="answer.known_device"
        >on <router-link :to="{ name: 'device', params: { id: answer.device! } }">{{ answer.device }}</router-link> at
        level <strong>{{ answer.level }}</strong></template
      >
      <template v-else
        >on an unknown device, which counts as <strong>{{ answer.level }}</strong></template
      >, {{ asked }}.
      <span v-if="isPerson && !answer.known_person" class="soft"
        >The directory does not know this person, so there are no groups.</span
      >
    </p>
    <p v-if="!answer.remedies" class="reason">{{ answer.reason_admin.en }}</p>
    <p v-if="answer.outcome !== 'allow'" class="soft">
      The person is told: “{{ answer.reason_user.en ?? Object.values(answer.reason_user)[0] }}”
    </p>

    <template v-if="answer.grant">
      <h2>What it is granted<span v-if="answer.grant.recover" class="soft small"> to get well in</span></h2>
      <p>
        <router-link
          :to="{ name: 'networks', query: { network: answer.asked.resource.id, grant: answer.grant.grant } }"
          >{{ answer.grant.grant }}</router-link><template v-if="answer.grant.vlan"
          >, VLAN {{ answer.grant.vlan }}</template
        ><template v-if="answer.grant.filter">, filter {{ answer.grant.filter }}</template
        ><template v-for="(text, name) in answer.grant.attributes" :key="name">, {{ name }} {{ text }}</template
        >, for
        {{ span(answer.grant.session) }}
      </p>
      <table v-if="answer.grant.instead?.length" class="ruled">
        <thead>
          <tr>
            <th>Not granted</th>
            <th>Required</th>
            <th>Seen</th>
            <th>By</th>
            <th>Age</th>
          </tr>
        </thead>
        <tbody v-for="g in answer.grant.instead" :key="g.grant">
          <tr v-for="(leaf, i) in g.why" :key="i" :class="{ joined: i < g.why.length - 1 }">
            <td v-if="i === 0" :rowspan="g.why.length">
              {{ g.grant }}
              <div class="soft small">
                <code>{{ g.when }}</code>
              </div>
            </td>
            <LeafRow :leaf="leaf" />
          </tr>
        </tbody>
      </table>
    </template>

    <template v-if="answer.gates.length > 0">
      <h2>Gates</h2>
      <table class="ruled">
        <thead>
          <tr>
            <th>Gate</th>
            <th>Says</th>
            <th>Required</th>
            <th>Seen</th>
            <th>By</th>
            <th>Age</th>
          </tr>
        </thead>
        <tbody v-for="gate in answer.gates" :key="gate.gate">
          <tr v-for="(leaf, i) in gate.why" :key="i" :class="{ joined: i < gate.why.length - 1 }">
            <td v-if="i === 0" :rowspan="gate.why.length" class="gate">
              <strong v-if="gate.number">{{ gate.number }}</strong> {{ gate.title || gate.gate }}
              <div class="soft small">
                {{ gate.gate }} needs <code>{{ gate.need }}</code>
              </div>
            </td>
            <td v-if="i === 0" :rowspan="gate.why.length" class="nowrap">
              <OutcomeMark :outcome="gate.verdict === 'met' ? 'allow' : gate.verdict" />
              <div v-if="gate.shadow" class="soft small">shadow, no effect</div>
            </td>
            <LeafRow :leaf="leaf" />
          </tr>
        </tbody>
      </table>
    </template>

    <template v-if="answer.remedies">
      <h2>What holds the device down</h2>
      <table class="ruled">
        <thead>
          <tr>
            <th>Rule</th>
            <th>Verdict</th>
            <th>Required</th>
            <th>Observed</th>
            <th>Source</th>
            <th>Age</th>
          </tr>
        </thead>
        <tbody v-for="r in answer.remedies" :key="r.rule">
          <tr v-for="(leaf, i) in r.why" :key="i" :class="{ joined: i < r.why.length - 1 }">
            <td v-if="i === 0" :rowspan="r.why.length" class="gate">
              <strong>{{ r.title || r.rule }}</strong>
              <div class="soft small">{{ r.rule }}</div>
            </td>
            <td v-if="i === 0" :rowspan="r.why.length">
              {{ r.verdict }}
              <div v-if="session.can('POST /api/v1/waivers') && answer.device">
                <el-button link type="primary" size="small" @click="waiving = waiving === r.rule ? '' : r.rule"
                  >Waive…</el-button
                >
              </div>
            </td>
            <LeafRow :leaf="leaf" />
          </tr>
          <tr v-if="waiving === r.rule">
            <td colspan="6">
              <ExceptionForm :device="answer.device!" :rule="r.rule" @done="granted" @cancel="waiving = ''" />
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="said" class="said" role="status">{{ said }}</p>
    </template>

    <template v-if="cures.length > 0 || answer.to_allow">
      <h2>{{ answer.outcome === 'allow' ? 'What would grant it more' : 'What would make it allow' }}</h2>
      <ul>
        <li v-for="text in answer.to_allow" :key="text">{{ text }}</li>
        <li v-for="r in cures" :key="r.rule">
          <template v-if="r.text"
            ><strong>{{ r.text.title }}.</strong> {{ r.text.steps }}</template
          >
          <template v-else>pass {{ r.rule }}</template>
          <span class="soft small rule">{{ r.rule }}</span>
        </li>
      </ul>
    </template>

    <footer class="soft small">
      <template v-if="recorded"
        >Decision <CopyText :text="recorded.id ?? ''" />,
        <router-link :to="{ name: 'entry', params: { seq: recorded.seq } }">entry {{ recorded.seq }}</router-link>
        of the ledger, asked by {{ recorded.actor }} <TimeText :time="recorded.at" />, rulebook
        {{ recorded.rulebook }}.</template
      >
      <template v-else
        >A trial under rulebook {{ answer.rulebook }}: nothing was recorded and nobody was let in.</template
      >
      <template v-if="answer.outcome === 'allow' && !answer.break_glass">
        The answer holds until {{ answer.valid_until }}.</template
      >
    </footer>
  </article>
</template>

<style scoped>
.answer header {
  display: flex;
  align-items: baseline;
  gap: 18px;
  margin-bottom: 8px;
}
.asked {
  font-size: 16px;
}
.reason {
  font-weight: 600;
}
.said {
  border-left: 3px solid var(--good);
  padding-left: 14px;
  margin-top: 8px;
}
.flag {
  border: 1px solid var(--metal);
  color: var(--metal);
  padding: 0 8px;
}
.gate {
  max-width: 320px;
}
ul {
  margin: 0;
  padding-left: 20px;
}
.rule {
  margin-left: 8px;
}
footer {
  margin-top: 24px;
  border-top: 1px solid var(--rule);
  padding-top: 8px;
}
</style>
