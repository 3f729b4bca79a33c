<script setup lang="ts">
import { computed, ref } from 'vue'
import ProblemNote from '../components/ProblemNote.vue'
import TimeText from '../components/TimeText.vue'
import { count } from '../composables/format'
import { useAct } from '../composables/useAct'
import { useLoad } from '../composables/useLoad'
import { useDraft } from '../stores/draft'
import { useSession } from '../stores/session'

const draft = useDraft()
const session = useSession()
const { problem: missing, again } = useLoad(
  () => draft.load(),
  () => null,
)
const { busy, problem, act } = useAct()
const publishing = ref(false)
const message = ref('')
const said = ref('')
const accepted = ref('')
const failed = computed(() => draft.check?.examples.filter((e) => !e.passed).length ?? 0)
const right = computed(() => draft.check?.ok === true && !draft.checking)

async function publish() {
  const done = await act(async () => {
    const got = await draft.publish(message.value, accepted.value)
    said.value = `Version ${got.rulebook.version} is in force; ${count(got.moved, 'device')} changed level.`
  })
  if (done) {
    publishing.value = false
    message.value = accepted.value = ''
  }
}
</script>

<template>
  <ProblemNote v-if="missing" :problem="missing" @again="again" />
  <header v-if="draft.inForce" class="tabbed">
    <div>
      <h1>Rulebook</h1>
      <p class="soft small">
        <template v-if="draft.inForce.version"
          >Version {{ draft.inForce.version }} is in force since
          <TimeText v-if="draft.inForce.at" :time="draft.inForce.at" />, by {{ draft.inForce.author }}:
          {{ draft.inForce.message }}</template
        >
        <template v-else>Nothing has been published: no device is covered and every request is denied.</template>
      </p>
    </div>
    <nav aria-label="Rulebook">
      <router-link :to="{ name: 'rulebook' }" exact-active-class="on">Text</router-link>
      <router-link :to="{ name: 'rules' }" active-class="on">Rules</router-link>
      <router-link :to="{ name: 'gate-form' }" active-class="on">Gates</router-link>
      <router-link :to="{ name: 'rehearsal' }" active-class="on">Rehearsal</router-link>
      <router-link :to="{ name: 'versions' }" active-class="on">Versions</router-link>
    </nav>
  </header>
  <p v-if="said && !draft.dirty" class="said">{{ said }}</p>
  <section v-if="draft.dirty" class="draft" aria-label="Draft">
    <p>
      <strong>Draft</strong> from version {{ draft.base }}, kept in this browser.
      <span v-if="draft.check && draft.check.problems.length > 0" class="bad"
        >{{ count(draft.check.problems.length, 'problem') }}.</span
      >
      <span v-else-if="failed > 0" class="bad"
        >{{ count(failed, 'example') }} {{ failed === 1 ? 'fails' : 'fail' }}.</span
      >
      <span v-else-if="draft.check">It is right, and changes {{ count(draft.changes.length, 'thing') }}.</span>
      <span v-if="draft.behind" class="bad">
        Version {{ draft.inForce?.version }} was published since; publishing this draft is refused. Discard it, or make
        your change again.</span
      >
    </p>
    <p class="acts">
      <el-button
        v-if="session.can('POST /api/v1/rulebooks') && !publishing"
        type="primary"
        :disabled="!right || draft.behind"
        @click="publishing = true"
        >Publish…</el-button
      >
      <el-button link @click="draft.reset()">Discard the draft</el-button>
    </p>
    <form v-if="publishing" class="publish" @submit.prevent="publish" @keydown.esc="publishing = false">
      <p class="small">
        Rehearse it first if you have not:
        <router-link :to="{ name: 'rehearsal' }">what would it do to today's fleet?</router-link>
      </p>
      <div>
        <el-input
          v-model="message"
          name="message"
          placeholder="What is the change for? Kept with the version."
          aria-label="Message"
          autofocus
        />
        <el-button native-type="submit" type="primary" :loading="busy" :disabled="!right || message.trim() === ''"
          >Put in force</el-button
        ><el-button link @click="publishing = false">Not yet</el-button>
      </div>
      <ProblemNote v-if="problem" :problem="problem" />
      <template v-if="problem?.impacts?.length">
        <ul class="impacts">
          <li v-for="x in problem.impacts" :key="x.kind">
            {{ x.message }}
            <div v-if="x.who.length" class="soft small">{{ x.who.join(', ') }}</div>
          </li>
        </ul>
        <div>
          <el-input
            v-model="accepted"
            name="accepted"
            placeholder="Why it is to be put in force all the same. Recorded with the version."
            aria-label="Why all the same"
          /><el-button native-type="submit" :disabled="accepted.trim() === ''" :loading="busy"
            >Accept this and put in force</el-button
          >
        </div>
      </template>
    </form>
  </section>
  <ProblemNote v-if="draft.problem" :problem="draft.problem" />
  <router-view v-if="draft.inForce" />
</template>

<style scoped>
.draft {
  border-left: 3px solid var(--metal);
  padding: 2px 0 2px 14px;
  margin-bottom: 12px;
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 4px 24px;
}
.draft p {
  margin: 4px 0;
}
.publish {
  flex-basis: 100%;
}
.publish > div {
  display: flex;
  gap: 8px;
  max-width: 760px;
}
.impacts {
  margin: 4px 0 8px;
  padding-left: 20px;
}
.bad {
  color: var(--metal);
  font-weight: 600;
}
.said {
  border-left: 3px solid var(--good);
  padding-left: 14px;
}
</style>
