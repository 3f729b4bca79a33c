<script setup lang="ts">
// A report on controls: what each came to, and behind it what it is made of. Numbers lead to what they count.
import { computed, ref } from 'vue'
import type { ControlReport, ControlTold } from '../api/client'
import { count } from '../composables/format'
import CopyText from './CopyText.vue'
import TallyBar from './TallyBar.vue'

const props = defineProps<{ report: ControlReport; note: string }>()
const open = ref(new Set<string>())
const toggle = (id: string) => {
  const next = new Set(open.value)
  if (!next.delete(id)) next.add(id)
  open.value = next
}
const percent = (share?: number) => (share === undefined ? '' : `${(Math.floor(share * 10000) / 100).toFixed(2)} %`)
const day = (time: string) => time.slice(0, 16).replace('T', ' ')
const states: Record<string, string> = { not_met: 'not met', unknown: 'not known', excepted: 'excepted' }
const bad = (c: ControlTold) => c.state === 'not met' || c.state === 'not served'
/** A device as it stood at the end of the report. */
const deviceAt = (id: string) => ({
  name: 'device',
  params: { id },
  query: { at: props.report.to },
})
const refused = computed(() =>
  props.report.refusals.map((r) => ({
    ...r,
    to: {
      name: 'decisions',
      query: {
        resource: r.resource,
        outcome: r.outcome,
        ...(r.gate && { gate: r.gate }),
        since: props.report.from,
        until: props.report.to,
      },
    },
  })),
)
</script>

<template>
  <p class="soft facts">
    {{ count(report.devices, 'known device') }}, made from the first
    <router-link :to="{ name: 'ledger' }">{{ count(report.ledger.size, 'entry', 'entries') }}</router-link> of
    <code>{{ report.ledger.origin }}</code>, under version {{ report.version }} of the rulebook.
    <template v-if="report.decisions">
      Decisions: {{ report.decisions.allow }} allowed, {{ report.decisions.step_up }} sent to step up,
      {{ report.decisions.deny }} denied.
    </template>
    <strong v-if="report.missing">The bodies of {{ count(report.missing, 'entry', 'entries') }} are gone.</strong>
  </p>
  <p v-if="report.controls.length === 0" class="empty">
    The rulebook that was in force then has no section <code>controls</code>.
  </p>
  <div v-else class="scrolls">
    <table class="ruled">
      <thead>
        <tr>
          <th>Control</th>
          <th>At the end</th>
          <th></th>
          <th class="number">Met</th>
          <th class="number">Not met</th>
          <th class="number">Not known</th>
          <th class="number">Excepted</th>
          <th v-if="report.from" class="number">Of the time</th>
        </tr>
      </thead>
      <tbody v-for="c in report.controls" :key="c.id">
        <tr>
          <td>
            <button type="button" class="opens" :aria-expanded="open.has(c.id)" @click="toggle(c.id)">
              <span aria-hidden="true">{{ open.has(c.id) ? '▾' : '▸' }}</span>
              <code>{{ c.id }}</code> {{ c.title }}
            </button>
          </td>
          <td class="nowrap" :class="{ bad: bad(c) }">{{ c.state }}</td>
          <td><TallyBar :of="c.at_end" /></td>
          <td class="number">{{ c.at_end.met }}</td>
          <td class="number">
            <button v-if="c.at_end.not_met" type="button" class="opens counted" @click="toggle(c.id)">
              {{ c.at_end.not_met }}</button><template v-else>0</template>
          </td>
          <td class="number">
            <button v-if="c.at_end.unknown" type="button" class="opens counted" @click="toggle(c.id)">
              {{ c.at_end.unknown }}</button><template v-else>0</template>
          </td>
          <td class="number">
            <button v-if="c.at_end.excepted" type="button" class="opens counted" @click="toggle(c.id)">
              {{ c.at_end.excepted }}</button><template v-else>0</template>
          </td>
          <td v-if="report.from" class="number">{{ percent(c.share) }}</td>
        </tr>
        <tr v-if="open.has(c.id)" class="within">
          <td :colspan="report.from ? 8 : 7">
            <p>
              <template v-if="c.serving.length === 0">Nothing serves it.</template>
              <template v-else>
                Served by
                <template v-for="(s, i) in c.serving" :key="s.kind + s.id">
                  <template v-if="i > 0">, </template>
                  <router-link v-if="s.kind === 'rule'" :to="`/rules/${s.id}`">{{ s.id }}</router-link>
                  <router-link v-else :to="{ name: 'gates' }">the gate {{ s.id }}</router-link>
                  <span class="soft"> since {{ day(s.since) }}<template v-if="s.shadow">, in shadow</template></span>
                  <template v-if="i === c.serving.length - 1">.</template>
                </template>
              </template>
              <template v-if="c.changes">
                Devices changed {{ count(c.changes, 'time') }}, the last at {{ day(c.last_change!) }}.
              </template>
              <template v-if="c.decisions">
                Its gates said allow {{ c.decisions.allow }}, step up {{ c.decisions.step_up }}, deny
                {{ c.decisions.deny }}.
              </template>
            </p>
            <div v-if="c.course && c.course.length > 1" class="course">
              <div v-for="p in c.course" :key="p.at">
                <TallyBar :of="p" />
                <small class="soft">{{ p.at.slice(5, 10) }}</small>
              </div>
            </div>
            <table v-if="c.failing.length > 0" class="ruled">
              <thead>
                <tr>
                  <th>Device</th>
                  <th>Stands</th>
                  <th>Since</th>
                  <th>By</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="f in c.failing" :key="f.device">
                  <td>
                    <router-link :to="deviceAt(f.device)">{{ f.device }}</router-link>
                  </td>
                  <td class="nowrap">{{ states[f.state] }}</td>
                  <td class="nowrap">{{ day(f.since) }}</td>
                  <td>
                    <template v-for="(r, i) in f.rules" :key="r"
                      ><template v-if="i > 0">, </template
                      ><router-link :to="`/rules/${r}`">{{ r }}</router-link></template
                    >
                  </td>
                </tr>
              </tbody>
            </table>
            <p v-if="c.more" class="soft">and {{ count(c.more, 'more device') }}.</p>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <h2>What nothing covers</h2>
  <p>
    <template v-if="report.nothing.controls.length">
      Nothing in force serves <code>{{ report.nothing.controls.join(', ') }}</code>.
    </template>
    <template v-else-if="report.controls.length">Something in force serves each control.</template>
    <template v-if="report.nothing.devices">
      No rule says anything about
      <template v-for="(d, i) in report.nothing.some" :key="d"
        ><template v-if="i > 0">, </template><router-link :to="deviceAt(d)">{{ d }}</router-link></template
      ><template v-if="report.nothing.devices > report.nothing.some.length">
        and {{ report.nothing.devices - report.nothing.some.length }} more</template
      >.
    </template>
  </p>
  <h2>Exceptions</h2>
  <p v-if="report.exceptions.length === 0" class="empty">None was in force.</p>
  <div v-else class="scrolls">
    <table class="ruled">
      <thead>
        <tr>
          <th>Device</th>
          <th>From what</th>
          <th>Until</th>
          <th>By</th>
          <th>Why</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="x in report.exceptions" :key="x.id">
          <td>
            <router-link :to="deviceAt(x.device)">{{ x.device }}</router-link>
          </td>
          <td>
            <router-link v-if="x.rule" :to="`/rules/${x.rule}`">{{ x.rule }}</router-link><template v-else
              >vouched for as genuine</template
            >
          </td>
          <td class="nowrap">{{ day(x.until) }}</td>
          <td>
            {{ x.author }}<template v-if="x.approved_by">, approved by {{ x.approved_by }}</template>
          </td>
          <td>
            {{ x.reason }}
            <span v-if="x.revoked_at" class="soft">Taken back at {{ day(x.revoked_at) }} by {{ x.revoked_by }}.</span>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <h2>Rulebooks in force</h2>
  <div class="scrolls">
    <table class="ruled">
      <thead>
        <tr>
          <th class="number">Version</th>
          <th>Published</th>
          <th>By</th>
          <th>What it says</th>
          <th class="number">Entry</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="p in report.publications" :key="p.entry">
          <td class="number">{{ p.version }}</td>
          <td class="nowrap">{{ day(p.at) }}</td>
          <td>{{ p.author }}</td>
          <td>
            {{ p.message }}
            <div v-for="i in p.impacts ?? []" :key="i.message" class="soft small">Told before: {{ i.message }}</div>
            <div v-if="p.accepted_why" class="soft small">Accepted: {{ p.accepted_why }}</div>
          </td>
          <td class="number">
            <router-link :to="`/ledger/${p.entry}`">{{ p.entry }}</router-link>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <template v-if="report.from">
    <h2>Uses of accounts for emergencies</h2>
    <p v-if="report.break_glass.length === 0" class="empty">There were none.</p>
    <ul v-else>
      <li v-for="e in report.break_glass" :key="e.decision">
        {{ day(e.at) }}: {{ e.person }} to {{ e.resource }},
        <router-link :to="`/decisions/${e.decision}`">{{ e.decision }}</router-link>
      </li>
    </ul>
    <h2>Refusals</h2>
    <p v-if="refused.length === 0" class="empty">There were none.</p>
    <div v-else class="scrolls">
      <table class="ruled">
        <thead>
          <tr>
            <th>Resource</th>
            <th>Answer</th>
            <th>Gate that said so first</th>
            <th class="number">Times</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in refused" :key="r.resource + r.outcome + r.gate">
            <td>{{ r.resource }}</td>
            <td>{{ r.outcome }}</td>
            <td>{{ r.gate }}<span v-if="!r.gate" class="soft">no gate</span></td>
            <td class="number">
              <router-link :to="r.to">{{ r.times }}</router-link>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </template>
  <details>
    <summary>Proof</summary>
    <p class="soft">
      The same period gives the same report to the byte. <code>ironledger report verify FILE</code> checks the
      signature, the ledger and the numbers. What is signed:
    </p>
    <CopyText :text="note"><span class="soft small">the note</span> </CopyText>
    <pre>{{ note }}</pre>
  </details>
</template>

<style scoped>
.facts {
  max-width: 80ch;
}
.opens {
  border: 0;
  background: none;
  font: inherit;
  color: inherit;
  cursor: pointer;
  padding: 0;
  text-align: left;
}
.opens > span {
  display: inline-block;
  width: 1.1em;
}
.counted {
  border-bottom: 1px solid var(--metal);
}
.number {
  text-align: right;
}
.opens:hover {
  color: var(--metal);
}
.bad {
  color: var(--metal);
  font-weight: 600;
}
.within > td {
  padding: 4px 14px 18px 22px;
}
.course {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 10px;
  margin: 6px 0 10px;
}
.course > div {
  display: grid;
  gap: 2px;
}
.course :deep(.bar) {
  width: 88px;
}
pre {
  overflow-x: auto;
  font-size: 13px;
}
summary {
  cursor: pointer;
  margin-top: 20px;
}
</style>
