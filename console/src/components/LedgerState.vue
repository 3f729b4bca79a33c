<script setup lang="ts">
// The ledger at a glance: how long it is, its signed head and key, and what the
// newest verification came to.
import { api, must, type Ledger } from '../api/client'
import { count } from '../composables/format'
import { useAct } from '../composables/useAct'
import CopyText from './CopyText.vue'
import ProblemNote from './ProblemNote.vue'
import TimeText from './TimeText.vue'

defineProps<{ state: Ledger }>()
const emit = defineEmits<{ changed: [] }>()
const { busy, problem, act } = useAct()
async function verify() {
  await act(() => must(api.POST('/api/v1/ledger/verification')))
  emit('changed')
}
</script>

<template>
  <section class="state" :class="state.verification.state" aria-live="polite">
    <p v-if="state.trouble" class="trouble" role="alert">
      <strong>Nothing can be recorded.</strong> {{ state.trouble }}. Every request is denied until it can.
    </p>
    <p v-if="state.clock_ahead" class="trouble">
      The machine's clock was set back: the ledger's time is {{ count(state.clock_ahead, 'second') }} before it.
    </p>
    <div class="row">
      <p>
        <strong v-if="state.verification.state === 'sound'">✓ Sound.</strong>
        <strong v-else-if="state.verification.state === 'broken'" class="bad">✗ Broken.</strong>
        <strong v-else-if="state.verification.state === 'running'">Being verified.</strong>
        <strong v-else>Not verified yet.</strong>
        <template v-if="state.verification.state === 'running'">
          {{ state.verification.size.toLocaleString('en') }} of
          {{ state.verification.of.toLocaleString('en') }} entries.</template
        >
        <template v-else-if="state.verification.at">
          The service checked {{ count(state.verification.size, 'entry', 'entries') }} and
          {{ count(state.verification.devices, 'device') }} <TimeText :time="state.verification.at" />
          <template v-if="state.verification.redacted">, {{ state.verification.redacted }} redacted</template
          ><template v-if="state.verification.archived"
            >, {{ state.verification.archived.toLocaleString('en') }} archived</template
          >.</template
        >
        <template v-else> It will be within a minute of the start, and then each day.</template>
        <span class="soft">
          Trust no service that verifies itself:
          <CopyText text="ironledger ledger verify"> <code>ironledger ledger verify</code></CopyText> does it on your
          machine.</span
        >
      </p>
      <el-button :loading="busy || state.verification.state === 'running'" @click="verify">Verify now</el-button>
    </div>
    <ProblemNote v-if="problem" :problem="problem" />
    <ul v-if="state.verification.problems.length > 0">
      <li v-for="p in state.verification.problems" :key="p.seq + p.message">
        <router-link v-if="p.seq" :to="{ name: 'entry', params: { seq: p.seq } }">Entry {{ p.seq }}</router-link
        >{{ p.seq ? ': ' : '' }}{{ p.message }}
      </li>
      <li v-if="state.verification.more">and {{ state.verification.more }} more</li>
    </ul>
    <dl>
      <div>
        <dt>Ledger</dt>
        <dd>{{ state.origin }}</dd>
      </div>
      <div>
        <dt>Entries</dt>
        <dd>{{ state.size.toLocaleString('en') }}</dd>
      </div>
      <div>
        <dt>Archived</dt>
        <dd>
          <router-link :to="{ hash: '#archives' }">{{
            state.archived_until ? `up to ${state.archived_until.toLocaleString('en')}` : 'nothing'
          }}</router-link>
        </dd>
      </div>
      <div>
        <dt>Root</dt>
        <dd>
          <CopyText :text="state.root"
            ><code>{{ state.root.slice(0, 16) }}…</code></CopyText
          >
        </dd>
      </div>
      <div>
        <dt>Public key</dt>
        <dd>
          <CopyText :text="state.key"
            ><code>{{ state.key.slice(state.origin.length + 1, state.origin.length + 9) }}…</code>
          </CopyText>
        </dd>
      </div>
      <div>
        <dt>Checkpoint</dt>
        <dd>
          <CopyText :text="state.checkpoint"><a href="/ledger/checkpoint">/ledger/checkpoint</a> </CopyText>
        </dd>
      </div>
    </dl>
  </section>
</template>

<style scoped>
.state {
  border-left: 3px solid var(--rule-strong);
  padding: 2px 0 2px 14px;
  margin-top: 12px;
}
.state.sound {
  border-color: var(--good);
}
.state.broken {
  border-color: var(--metal);
}
.row {
  display: flex;
  gap: 24px;
  align-items: baseline;
  justify-content: space-between;
}
.row p {
  margin: 0;
}
.trouble,
.bad {
  color: var(--metal);
}
dl {
  display: flex;
  gap: 32px;
  margin: 10px 0 0;
  flex-wrap: wrap;
}
dt {
  color: var(--ink-soft);
  font-size: 13px;
}
dd {
  margin: 0;
}
ul {
  margin: 6px 0;
  padding-left: 20px;
}
</style>
