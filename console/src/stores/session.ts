import { defineStore } from 'pinia'
import { ref } from 'vue'
import { api, must, type Session } from '../api/client'
import { rights } from '../api/rights.gen'

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

  /** Whether the role of who is signed in has the right that an operation asks for. */
  function can(operation: keyof typeof rights): boolean {
    const right = rights[operation]
    return right === 'any' || right === 'none' || (who.value?.may.includes(right) ?? false)
  }

  return { who, known, signIn, signOut, can }
})
