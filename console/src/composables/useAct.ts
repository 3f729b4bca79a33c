import { ref } from 'vue'
import { ProblemError, type Problem } from '../api/client'

/** Something a person does that changes the service: whether it is under way, and the problem if there was one. */
export function useAct() {
  const busy = ref(false)
  const problem = ref<Problem | null>(null)

  /** Does it; returns whether it was done. */
  async function act(what: () => Promise<unknown>): Promise<boolean> {
    busy.value = true
    problem.value = null
    try {
      await what()
      return true
    } catch (e) {
      if (!(e instanceof ProblemError)) throw e
      problem.value = e.problem
      return false
    } finally {
      busy.value = false
    }
  }
  return { busy, problem, act }
}
