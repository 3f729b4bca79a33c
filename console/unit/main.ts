// What the tests of the browser call by itself: composables without a page.
import { createPinia } from 'pinia'
import { createApp, h, ref } from 'vue'
import { createMemoryHistory, createRouter } from 'vue-router'
import { parseDocument } from 'yaml'
import { ProblemError } from '../src/api/client'
import { put, textOf, type Held, type Path } from '../src/composables/useDocuments'
import { useLoad } from '../src/composables/useLoad'

interface Asked {
  done: (value: unknown) => void
  fail: (e: unknown) => void
}

/** Mounts a page that loads; each question waits until it is answered from outside. */
async function mount() {
  const asked: Asked[] = []
  const on = ref(0)
  const empty = { render: () => h('p') }
  const router = createRouter({
    history: createMemoryHistory(),
    routes: [
      { path: '/here', component: empty },
      { path: '/sign-in', name: 'sign-in', component: empty },
    ],
  })
  await router.push('/here?q=1')
  let loaded: ReturnType<typeof useLoad<unknown>> | undefined
  const app = createApp({
    setup() {
      loaded = useLoad(
        () =>
          new Promise((done, fail) => {
            asked.push({ done, fail })
          }),
        () => on.value,
      )
      return () => h('p')
    },
  })
  app.use(createPinia()).use(router)
  app.mount(document.body.appendChild(document.createElement('div')))
  const settled = () =>
    new Promise((done) => {
      setTimeout(done)
    })
  return {
    ask: async () => {
      on.value++
      await settled()
    },
    again: async () => {
      void loaded!.again()
      await settled()
    },
    answer: async (n: number, value: unknown) => {
      asked[n]!.done(value)
      await settled()
    },
    fail: async (n: number, status: number) => {
      asked[n]!.fail(new ProblemError({ type: 'about:blank', title: '', status, detail: `failed with ${status}` }))
      await settled()
    },
    state: () => ({
      asked: asked.length,
      data: loaded!.data.value,
      loading: loaded!.loading.value,
      problem: loaded!.problem.value?.detail ?? '',
      at: router.currentRoute.value.fullPath,
    }),
  }
}

/** A document with something set in it, as forms do. */
function edit(text: string, place: Path, path: string[], value: Held): string {
  const d = parseDocument(text)
  put(d, place, path, value)
  return d.toString({ lineWidth: 0, flowCollectionPadding: false })
}

const textAt = (text: string, place: Path, key: string) => textOf(parseDocument(text).getIn(place), key)

Object.assign(window, { unit: { mount, edit, textAt } })
