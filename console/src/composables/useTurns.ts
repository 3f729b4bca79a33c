import { computed, ref, watch } from 'vue'

/** Going through the pages of one list among others on a page: nothing of it stands in the URL. */
export function useTurns(filter: () => unknown, next: () => string | undefined) {
  const before = ref<string[]>([])
  const cursor = computed(() => before.value.at(-1) ?? '')
  watch(filter, () => (before.value = []), { deep: true })

  const forward = () => before.value.push(next() ?? '')
  const back = () => before.value.pop()
  return { cursor, forward, back }
}
