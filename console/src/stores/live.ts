import { defineStore } from 'pinia'
import { ref } from 'vue'
import type { Changes } from '../api/client'

type Listener = (changes: Changes) => void

/** How long the stream stays open when nobody listens, as between two pages. */
const linger = 3000

/**
 * What changes, as it does: one stream of events for all that shows. It is open
 * while somebody listens and looks: a browser has six connections for all pages
 * of a service, and those in the background are to leave them alone.
 */
export const useLive = defineStore('live', () => {
  const state = ref<'off' | 'live' | 'lost'>('off')
  const listeners = new Set<Listener>()
  let source: EventSource | null = null
  let again: ReturnType<typeof setTimeout> | undefined
  let leaving: ReturnType<typeof setTimeout> | undefined

  function open() {
    if (source || listeners.size === 0 || document.hidden) return
    source = new EventSource('/api/v1/changes')
    source.onopen = () => {
      state.value = 'live'
      tell({ seq: 0, all: true, kinds: [], about: [] }) // something may have happened before it was open
    }
    source.addEventListener('change', (e) => tell(JSON.parse((e as MessageEvent<string>).data) as Changes))
    source.onerror = () => {
      state.value = 'lost'
      if (source?.readyState !== EventSource.CLOSED) return // the browser tries again by itself
      source = null
      again = setTimeout(open, 5000)
    }
  }

  function close() {
    clearTimeout(again)
    source?.close()
    source = null
    state.value = 'off'
  }

  document.addEventListener('visibilitychange', () => (document.hidden ? close() : open()))
  window.addEventListener('pagehide', close)
  window.addEventListener('pageshow', open)

  function tell(changes: Changes) {
    for (const f of listeners) f(changes)
  }

  /** Calls f with what changes, until the function that is returned is called. */
  function listen(f: Listener): () => void {
    listeners.add(f)
    clearTimeout(leaving)
    open()
    return () => {
      listeners.delete(f)
      if (listeners.size > 0) return
      leaving = setTimeout(close, linger)
    }
  }

  return { state, listen }
})
