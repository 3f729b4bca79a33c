import { ref } from 'vue'
import { useAct } from './useAct'

interface Intake {
  added: number
  changed: number
  unchanged: number
  refused: { line: number; message: string }[]
}

/** Brings a file that a person chose: what became of its lines, and the problem if there was one. */
export function useBring(send: (text: string, name: string) => Promise<Intake>, done: () => unknown) {
  const { busy, problem, act } = useAct()
  const said = ref('')

  async function bring(event: globalThis.Event) {
    const input = event.target as HTMLInputElement
    const file = input.files?.[0]
    if (!file) return
    const text = await file.text()
    said.value = ''
    await act(async () => {
      const r = await send(text, file.name)
      said.value =
        `${r.added} added, ${r.changed} changed, ${r.unchanged} as they were` +
        r.refused.map((x) => `; line ${x.line}: ${x.message}`).join('')
    })
    input.value = ''
    await done()
  }
  return { busy, problem, said, bring }
}
