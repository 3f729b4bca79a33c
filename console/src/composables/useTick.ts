import { onScopeDispose, ref } from 'vue'

/** A number that changes every so many milliseconds: for what is looked at again while a page is open. */
export function useTick(every: number) {
  const tick = ref(0)
  const timer = setInterval(() => {
    if (!document.hidden) tick.value++
  }, every)
  onScopeDispose(() => clearInterval(timer))
  return tick
}
