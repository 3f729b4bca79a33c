import { ref, watch, type Ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { ProblemError, type Problem } from '../api/client'
import { useSession } from '../stores/session'

/**
 * Loads something whenever what it depends on changes: the data, whether it is
 * under way, and the problem if there was one. An answer that comes after a
 * newer question is dropped. A session that has ended leads to the sign-in.
 */
export function useLoad<T>(load: () => Promise<T>, on: () => unknown) {
  const data = ref<T | null>(null) as Ref<T | null>
  const problem = ref<Problem | null>(null)
  const loading = ref(false)
  const router = useRouter()
  const route = useRoute()
  const session = useSession()
  let latest = 0

  async function again() {
    const mine = ++latest
    loading.value = true
    try {
      const got = await load()
      if (mine !== latest) return
      data.value = got
      problem.value = null
    } catch (e) {
      if (mine !== latest) return
      if (!(e instanceof ProblemError)) throw e
      if (e.problem.status === 401) {
        session.who = null
        await router.push({ name: 'sign-in', query: { to: route.fullPath } })
        return
      }
      problem.value = e.problem
    } finally {
      if (mine === latest) loading.value = false
    }
  }

  watch(on, again, { immediate: true, deep: true })
  return { data, problem, loading, again }
}
