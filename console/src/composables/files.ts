import { must } from '../api/client'

/** The bytes of a file in base64, as the service takes them. */
export function base64Of(file: Blob): Promise<string> {
  return new Promise((resolve, reject) => {
    const reader = new FileReader()
    reader.onload = () => resolve(String(reader.result).replace(/^[^,]*,/, ''))
    reader.onerror = () => reject(reader.error ?? new Error('the file cannot be read'))
    reader.readAsDataURL(file)
  })
}

/** Has the browser keep a text as a file. */
export const save = (name: string, text: string) => saveFile(name, new Blob([text], { type: 'application/json' }))

/** Has the browser keep a file. */
export function saveFile(name: string, file: Blob) {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(file)
  link.download = name
  link.click()
  URL.revokeObjectURL(link.href)
}

/** Fetches a table of comma-separated values (RFC 4180), and tells as it comes how many rows there are below its header. */
export async function fetchTable(url: string, signal: AbortSignal, told: (rows: number) => void): Promise<Blob> {
  const response = await must(
    fetch(url, { signal }).then(async (response) =>
      response.ok ? { data: response, response } : { error: await response.json().catch(() => ({})), response },
    ),
  )
  const parts: Uint8Array<ArrayBuffer>[] = []
  const reader = response.body!.getReader()
  let rows = -1
  let quoted = false
  for (;;) {
    const { done, value } = await reader.read()
    if (done) return new Blob(parts, { type: 'text/csv' })
    parts.push(value)
    for (const byte of value) {
      if (byte === 34) quoted = !quoted
      else if (byte === 10 && !quoted) rows++
    }
    told(Math.max(0, rows))
  }
}
