<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { ProblemError, type Problem } from '../api/client'
import ProblemNote from '../components/ProblemNote.vue'
import { useSession } from '../stores/session'

const token = ref('')
const busy = ref(false)
const problem = ref<Problem | null>(null)
const session = useSession()
const router = useRouter()
const route = useRoute()

async function signIn() {
  busy.value = true
  problem.value = null
  try {
    await session.signIn(token.value.trim())
    const to = String(route.query.to ?? '/')
    await router.push(to.startsWith('/') && !to.startsWith('//') ? to : '/')
  } catch (e) {
    if (!(e instanceof ProblemError)) throw e
    problem.value = e.problem
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <main class="sign-in">
    <img src="/mark.svg" alt="" width="44" height="44" />
    <h1>Iron Ledger</h1>
    <p class="soft">How far may this device be trusted right now, and so who may reach what from it?</p>
    <el-form label-position="top" @submit.prevent="signIn">
      <el-form-item label="Your token">
        <el-input
          v-model="token"
          name="token"
          type="password"
          autocomplete="current-password"
          autofocus
          show-password
        />
      </el-form-item>
      <el-button type="primary" native-type="submit" :loading="busy" :disabled="token.trim() === ''">Sign in</el-button>
    </el-form>
    <ProblemNote v-if="problem" :problem="problem" @again="signIn" />
    <p class="soft small hint">
      An administrator makes tokens with <code>ironledger token create NAME --role reader</code>.
    </p>
  </main>
</template>

<style scoped>
.sign-in {
  max-width: 420px;
  margin: 14vh auto 0;
  padding: 32px;
  background: var(--sheet);
  border: 1px solid var(--rule);
  border-top: 3px solid var(--metal);
}
h1 {
  margin: 10px 0 4px;
}
.el-form {
  margin-top: 20px;
}
.hint {
  margin-top: 20px;
}
</style>
