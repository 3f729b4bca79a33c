import { ref, watch, type Ref } from 'vue'

/**
 * Going through the pages of a list whose cursor stands in the URL. The way
 * back is remembered as long as the rest of the filter stays.
 */
export function usePages<K extends string>(
  query: Readonly<Ref<Record<K | 'cursor', string>>>,
  set: (change: Partial<Record<K | 'cursor', string>>) => unknown,
  next: () => string | undefined,
) {
  const before = ref<string[]>([])
  const to = (cursor: string) => set({ cursor } as Partial<Record<K | 'cursor', string>>)
  watch(
    () => query.value.cursor,
    (cursor) => {
      if (cursor === '') before.value = []
    },
  )

  function forward() {
    before.value.push(query.value.cursor)
    return to(next() ?? '')
  }
  const back = () => to(before.value.pop() ?? '')
  return { forward, back }
}
