import { reactive, watch } from 'vue'
import { usePages } from './usePages'
import { useQuery } from './useQuery'

/**
 * The search of a list: fields that stand in the URL once they are searched for, and
 * the way through its pages. A new search begins at the first page.
 */
export function useSearch<K extends string>(keys: readonly K[], next: () => string | undefined) {
  const { query, set } = useQuery<K | 'cursor'>(...keys, 'cursor')
  const fields = reactive({ ...query.value }) as Record<K, string>
  watch(query, (q) => Object.assign(fields, q))

  const search = () => set({ ...trimmed(keys, fields), cursor: '' } as Partial<Record<K | 'cursor', string>>)
  const clear = () => set(Object.fromEntries([...keys, 'cursor'].map((k) => [k, ''])) as Record<K | 'cursor', string>)
  return { query, set, fields, search, clear, ...usePages(query, set, next) }
}

const trimmed = <K extends string>(keys: readonly K[], fields: Record<K, string>) =>
  Object.fromEntries(keys.map((k) => [k, fields[k].trim()]))

/** The address of a search as CSV: what is asked for, of every page. */
export function csvOf(path: string, query: Record<string, string>): string {
  const asked = Object.entries(query).filter(([k, v]) => v !== '' && k !== 'cursor')
  return `${path}?${new URLSearchParams({ ...Object.fromEntries(asked), format: 'csv' })}`
}
