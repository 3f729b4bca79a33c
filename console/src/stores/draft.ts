import { defineStore } from 'pinia'
import { computed, ref } from 'vue'
import {
  api,
  must,
  ProblemError,
  type Check,
  type Difference,
  type File,
  type Problem,
  type RulebookInfo,
} from '../api/client'

const place = 'ironledger-draft'

/**
 * The rulebook as somebody is changing it. What is not published is kept in
 * this browser, so that leaving the page loses nothing; the service checks it.
 */
export const useDraft = defineStore('draft', () => {
  const files = ref<File[]>([])
  const inForce = ref<RulebookInfo | null>(null)
  /** The version that the draft was begun from. */
  const base = ref(0)
  const check = ref<Check | null>(null)
  const changes = ref<Difference[]>([])
  const problem = ref<Problem | null>(null)
  const checking = ref(false)
  let timer: ReturnType<typeof setTimeout> | undefined
  let latest = 0

  const dirty = computed(() => JSON.stringify(files.value) !== JSON.stringify(inForce.value?.files ?? []))
  const behind = computed(() => inForce.value !== null && base.value !== inForce.value.version)

  async function load() {
    try {
      inForce.value = await must(api.GET('/api/v1/rulebooks/{version}', { params: { path: { version: 'current' } } }))
    } catch (e) {
      if (!(e instanceof ProblemError) || e.problem.status !== 404) throw e
      inForce.value = {
        version: 0,
        author: '',
        message: '',
        digest: '',
        files: [{ name: 'rulebook.yaml', text: 'rulebook: house\nbaselines: []\ngates: []\nexamples: []\n' }],
      }
    }
    const kept = localStorage.getItem(place)
    if (files.value.length === 0 && kept) {
      const draft = JSON.parse(kept) as { base: number; files: File[] }
      files.value = draft.files
      base.value = draft.base
    }
    if (files.value.length === 0) reset()
    schedule(0)
  }

  function reset() {
    files.value = (inForce.value?.files ?? []).map((f) => ({ ...f }))
    base.value = inForce.value?.version ?? 0
    localStorage.removeItem(place)
    schedule(0)
  }

  function write(name: string, text: string) {
    const file = files.value.find((f) => f.name === name)
    if (!file || file.text === text) return
    file.text = text
    keep()
  }

  function replace(list: File[]) {
    files.value = list.map((f) => ({ ...f }))
    keep()
  }

  function keep() {
    if (dirty.value) localStorage.setItem(place, JSON.stringify({ base: base.value, files: files.value }))
    else localStorage.removeItem(place)
    schedule(350)
  }

  function schedule(wait: number) {
    clearTimeout(timer)
    timer = setTimeout(look, wait)
  }

  /** Has the service check the draft and tell what it changes. */
  async function look() {
    const mine = ++latest
    checking.value = true
    try {
      const body = { files: files.value }
      const found = await must(api.POST('/api/v1/rulebooks/check', { body }))
      const differ =
        found.problems.length === 0 && dirty.value
          ? (await must(api.POST('/api/v1/rulebooks/compare', { body }))).items
          : []
      if (mine !== latest) return
      check.value = found
      changes.value = differ
      problem.value = null
    } catch (e) {
      if (!(e instanceof ProblemError)) throw e
      if (mine === latest) problem.value = e.problem
    } finally {
      if (mine === latest) checking.value = false
    }
  }

  async function format() {
    const got = await must(api.POST('/api/v1/rulebooks/format', { body: { files: files.value } }))
    replace(got.files)
  }

  async function publish(message: string, accepted: string) {
    const got = await must(
      api.POST('/api/v1/rulebooks', {
        body: { files: files.value, message, base: base.value, ...(accepted && { accept_impact: accepted }) },
      }),
    )
    localStorage.removeItem(place)
    files.value = []
    await load()
    return got
  }

  return {
    files,
    inForce,
    base,
    check,
    changes,
    problem,
    checking,
    dirty,
    behind,
    load,
    reset,
    write,
    replace,
    format,
    publish,
  }
})
