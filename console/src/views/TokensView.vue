<script setup lang="ts">
// Who may speak to the service, as what, until when, and when they last did.
import { computed, reactive, ref } from 'vue'
import { api, must, type Token } from '../api/client'
import CopyText from '../components/CopyText.vue'
import ProblemNote from '../components/ProblemNote.vue'
import SecretOnce from '../components/SecretOnce.vue'
import TimeText from '../components/TimeText.vue'
import { count } from '../composables/format'
import { useAct } from '../composables/useAct'
import { ofKinds, useLoad } from '../composables/useLoad'
import { useQuery } from '../composables/useQuery'

const { query, set } = useQuery('show')
const { data, problem, loading, again } = useLoad(
  () => must(api.GET('/api/v1/tokens')),
  () => null,
  ofKinds('token.'),
)
const shown = computed(() =>
  (data.value?.items ?? [])
    .filter((t) => query.value.show === 'all' || t.state === 'live')
    .sort((a, b) => a.name.localeCompare(b.name) || b.created_at.localeCompare(a.created_at)),
)
const roles = {
  reader: 'sees everything',
  helpdesk: 'also asks, excepts and settles reports',
  author: 'also publishes rulebooks',
  admin: 'may do everything',
  enforcer: 'asks for decisions that count',
  source: 'brings evidence under its name',
  receiver: 'hears of changes of standing',
}
const lives = [
  { value: '30d', label: '30 days' },
  { value: '90d', label: '90 days' },
  { value: '365d', label: 'a year' },
  { value: '', label: 'until it is revoked' },
]
const overlaps = [
  { value: '', label: 'ends at once' },
  { value: '1h', label: 'is good for another hour' },
  { value: '1d', label: 'is good for another day' },
  { value: '7d', label: 'is good for another week' },
]

/** What is being done, and to which token. */
const doing = ref<{ what: 'make' | 'rotate' | 'revoke'; token?: Token } | null>(null)
const draft = reactive({ name: '', role: 'reader', lives: '90d', overlap: '1d' })
const secret = ref<{ name: string; text: string } | null>(null)
const { busy, problem: refused, act } = useAct()

function begin(what: 'make' | 'rotate' | 'revoke', token?: Token) {
  refused.value = null
  secret.value = null
  doing.value = { what, token }
}

async function make() {
  const { name, role, lives } = draft
  const done = await act(async () => {
    const got = await must(api.POST('/api/v1/tokens', { body: { name, role, ...(lives && { for: lives }) } }))
    secret.value = { name: got.token.name, text: got.secret }
  })
  if (done) await finished()
}

async function rotate(t: Token) {
  const { lives, overlap } = draft
  const done = await act(async () => {
    const got = await must(
      api.POST('/api/v1/tokens/{id}/rotate', {
        params: { path: { id: t.id } },
        body: { ...(overlap && { overlap }), ...(lives && { for: lives }) },
      }),
    )
    secret.value = { name: got.token.name, text: got.secret }
  })
  if (done) await finished()
}

async function revoke(t: Token) {
  const done = await act(() => must(api.DELETE('/api/v1/tokens/{id}', { params: { path: { id: t.id } } })))
  if (done) await finished()
}

async function finished() {
  doing.value = null
  draft.name = ''
  await again()
}
</script>

<template>
  <h1>Tokens</h1>
  <p class="soft">
    Who may speak to this service, as what, and until when. A secret is shown once and kept nowhere; a week before a
    token ends it is among what needs you.
  </p>
  <p class="choices">
    <el-button link :type="query.show ? 'default' : 'primary'" @click="set({ show: '' })">Live</el-button>
    <el-button link :type="query.show ? 'primary' : 'default'" @click="set({ show: 'all' })"
      >Ended and revoked too</el-button
    >
    <span v-if="data" class="soft small">{{ shown.length }} of {{ count(data.items.length, 'token') }}</span>
    <el-button v-if="doing?.what !== 'make'" type="primary" @click="begin('make')">Make a token…</el-button>
  </p>
  <form v-if="doing?.what === 'make'" class="fields" @submit.prevent="make" @keydown.esc="doing = null">
    <label
      >Name, by which the ledger knows it
      <el-input v-model="draft.name" name="token-name" maxlength="100" placeholder="mdm" autofocus
    /></label>
    <label
      >Role
      <el-select v-model="draft.role" aria-label="Role"
        ><el-option v-for="(does, role) in roles" :key="role" :value="role" :label="`${role}: ${does}`" /></el-select
    ></label>
    <label
      >It lives
      <el-select v-model="draft.lives" aria-label="It lives"
        ><el-option v-for="x in lives" :key="x.value" :value="x.value" :label="x.label" /></el-select
    ></label>
    <p class="wide">
      <el-button native-type="submit" type="primary" :loading="busy" :disabled="draft.name.trim() === ''"
        >Make it</el-button
      >
      <el-button link @click="doing = null">Not now</el-button>
    </p>
  </form>
  <SecretOnce v-if="secret" :of="secret.name" :text="secret.text" @done="secret = null" />
  <ProblemNote v-if="refused" :problem="refused" />
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-if="!data && loading" :rows="6" animated />
  <div v-else-if="data" class="scrolls">
    <table class="ruled">
      <thead>
        <tr>
          <th>Name</th>
          <th>Role</th>
          <th>Last used</th>
          <th>Ends</th>
          <th>Made</th>
          <th />
        </tr>
      </thead>
      <tbody>
        <template v-for="t in shown" :key="t.id">
          <tr :class="{ over: t.state !== 'live' }">
            <td>
              <strong>{{ t.name }}</strong>
              <div class="soft small">
                <CopyText :text="t.id"
                  ><code>{{ t.id }}</code></CopyText
                >
              </div>
            </td>
            <td>
              {{ t.role }}
              <div class="soft small">{{ roles[t.role as keyof typeof roles] }}</div>
            </td>
            <td><TimeText v-if="t.used_at" :time="t.used_at" /><span v-else class="soft">never</span></td>
            <td>
              <template v-if="t.state === 'revoked'"
                >revoked <TimeText v-if="t.revoked_at" :time="t.revoked_at"
              /></template>
              <TimeText v-else-if="t.ends_at" :time="t.ends_at" />
              <span v-else class="soft">when it is revoked</span>
            </td>
            <td>
              <TimeText :time="t.created_at" /><span class="soft small">, by {{ t.created_by }}</span>
            </td>
            <td class="right">
              <template v-if="t.state === 'live'">
                <el-button link type="primary" @click="begin('rotate', t)">Rotate…</el-button>
                <el-button link @click="begin('revoke', t)">Revoke…</el-button>
              </template>
            </td>
          </tr>
          <tr v-if="doing?.token?.id === t.id">
            <td colspan="6">
              <form
                v-if="doing.what === 'rotate'"
                class="fields"
                @submit.prevent="rotate(t)"
                @keydown.esc="doing = null"
              >
                <label
                  >The old secret
                  <el-select v-model="draft.overlap" aria-label="The old secret"
                    ><el-option v-for="x in overlaps" :key="x.value" :value="x.value" :label="x.label" /></el-select
                ></label>
                <label
                  >The new one lives
                  <el-select v-model="draft.lives" aria-label="The new one lives"
                    ><el-option v-for="x in lives" :key="x.value" :value="x.value" :label="x.label" /></el-select
                ></label>
                <p>
                  <el-button native-type="submit" type="primary" :loading="busy">Rotate</el-button>
                  <el-button link @click="doing = null">Not now</el-button>
                </p>
              </form>
              <form v-else @submit.prevent="revoke(t)" @keydown.esc="doing = null">
                Whoever uses it is refused from then on.
                <el-button native-type="submit" type="primary" :loading="busy">Revoke {{ t.name }}</el-button>
                <el-button link @click="doing = null">Not now</el-button>
              </form>
            </td>
          </tr>
        </template>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.choices {
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 4px 14px;
}
.choices .el-button + .el-button {
  margin-left: 0;
}
.choices > :last-child {
  margin-left: auto;
}
.over {
  color: var(--ink-soft);
}
.right {
  text-align: right;
  white-space: nowrap;
}
</style>
