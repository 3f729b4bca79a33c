import { defineStore } from 'pinia'
import { computed, ref } from 'vue'
import { api, must, type Session } from '../api/client'

/** Who is signed in. The token itself stays in an HttpOnly cookie. */
export const useSession = defineStore('session', () => {
  const who = ref<Session | null>(null)

  /** Whether somebody is signed in, asking the service the first time. */
  async function known(): Promise<boolean> {
    if (who.value === null) {
      const reply = await api.GET('/api/v1/session')
      who.value = reply.data ?? null
    }
    return who.value !== null
  }

  async function signIn(token: string) {
    who.value = await must(api.POST('/api/v1/session', { body: { token } }))
  }

  async function signOut() {
    await api.DELETE('/api/v1/session')
    who.value = null
  }

  const may = (what: string) => who.value?.may.includes(what) ?? false
  const mayAsk = computed(() => may('ask'))
  const mayWaive = computed(() => may('waive'))
  const mayPublish = computed(() => may('publish'))
  const mayAdmin = computed(() => may('administer'))
  return { who, known, signIn, signOut, mayAsk, mayWaive, mayPublish, mayAdmin }
})
