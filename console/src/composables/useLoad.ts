import { onScopeDispose, ref, watch, type Ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { ProblemError, type Changes, type Problem } from '../api/client'
import { useLive } from '../stores/live'
import { useSession } from '../stores/session'

/** Whether changes are of one of the kinds that begin so. */
export const ofKinds =
  (...beginnings: string[]) =>
  (changes: Changes) =>
    changes.kinds.some((k) => beginnings.some((b) => k.startsWith(b)))

/** Whether changes can move devices. */
export const ofFleet = ofKinds('standing.', 'device.', 'waiver.', 'vouch.', 'rulebook.', 'person.', 'roster.')

/** The least time between two loads that changes call for, in milliseconds. */
const pause = 2000

/**
 * Loads something whenever what it depends on changes: the data, whether it is
 * under way, and the problem if there was one. An answer that comes after a
 * newer question is dropped. A session that has ended leads to the sign-in.
 *
 * With touched, it is loaded anew, without a sign of it, whenever the service
 * tells of changes that touch it.
 */
export function useLoad<T>(load: () => Promise<T>, on: () => unknown, touched?: (changes: Changes) => boolean) {
  const data = ref<T | null>(null) as Ref<T | null>
  const problem = ref<Problem | null>(null)
  const loading = ref(false)
  const router = useRouter()
  const route = useRoute()
  const session = useSession()
  let latest = 0

  async function fetch(quiet: boolean) {
    const mine = ++latest
    loading.value = !quiet
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
      if (!quiet || data.value === null) problem.value = e.problem
    } finally {
      if (mine === latest) loading.value = false
    }
  }

  const again = () => fetch(false)

  if (touched) {
    let due: ReturnType<typeof setTimeout> | undefined
    let last = 0
    const soon = () => {
      due ??= setTimeout(
        () => {
          due = undefined
          if (loading.value) return soon() // what is under way may be older
          last = Date.now()
          void fetch(true)
        },
        Math.max(loading.value ? pause / 10 : 0, last + pause - Date.now()),
      )
    }
    const deaf = useLive().listen((changes) => {
      if (changes.all || touched(changes)) soon()
    })
    onScopeDispose(() => {
      deaf()
      clearTimeout(due)
    })
  }

  watch(on, again, { immediate: true, deep: true })
  return { data, problem, loading, again }
}
