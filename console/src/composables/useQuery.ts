import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

/** The filter of a list, kept in the URL so that it can be sent and gone back to. */
export function useQuery<K extends string>(...keys: K[]) {
  const route = useRoute()
  const router = useRouter()
  const query = computed(
    () =>
      Object.fromEntries(keys.map((k) => [k, typeof route.query[k] === 'string' ? route.query[k] : ''])) as Record<
        K,
        string
      >,
  )

  /** Changes some of the filter; empty values leave the URL. */
  function set(change: Partial<Record<K, string>>) {
    const next = Object.fromEntries(Object.entries({ ...query.value, ...change }).filter(([, v]) => v !== ''))
    return router.push({ query: next as Record<string, string> })
  }
  return { query, set }
}
