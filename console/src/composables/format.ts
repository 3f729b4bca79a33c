import type { Remedies } from '../api/client'

const units: [number, string][] = [
  [86400, 'd'],
  [3600, 'h'],
  [60, 'm'],
  [1, 's'],
]

/** A span of seconds in its two largest units down to minutes, as the service writes ages. */
export function span(seconds: number): string {
  for (let i = 0; i < units.length; i++) {
    const [size, letter] = units[i]!
    if (seconds < size) continue
    const next = letter === 'm' ? undefined : units[i + 1]
    const rest = next ? Math.floor((seconds % size) / next[0]) : 0
    return `${Math.floor(seconds / size)}${letter}${rest > 0 && next ? ` ${rest}${next[1]}` : ''}`
  }
  return '0s'
}

/** A time as it is read: "3h 2m ago" or "in 5d". */
export function ago(time: string, now = Date.now()): string {
  const seconds = Math.round((now - Date.parse(time)) / 1000)
  return seconds >= 0 ? `${span(seconds)} ago` : `in ${span(-seconds)}`
}

/** A time in full, local to the reader. */
export function full(time: string): string {
  return new Intl.DateTimeFormat(undefined, { dateStyle: 'medium', timeStyle: 'medium' }).format(new Date(time))
}

/** The remedy in the reader's language, in English, or in whatever there is. */
export function remedyText(remedies: Remedies | undefined) {
  if (!remedies) return undefined
  return (
    remedies[navigator.language] ??
    remedies[navigator.language.slice(0, 2)] ??
    remedies.en ??
    Object.values(remedies)[0]
  )
}

/** A text with Markdown links, cut into plain parts and links. */
export function linked(text: string): { text: string; href?: string }[] {
  const parts: { text: string; href?: string }[] = []
  let at = 0
  for (const m of text.matchAll(/\[([^\]\n]*)\]\(((?:https:\/\/|mailto:|tel:)[^)\s]*)\)/g)) {
    if (m.index > at) parts.push({ text: text.slice(at, m.index) })
    parts.push({ text: m[1]!, href: m[2]! })
    at = m.index + m[0].length
  }
  if (at < text.length) parts.push({ text: text.slice(at) })
  return parts
}

/** A number as it is read: "12,000"; a dot for none in a table where asked for. */
export function num(n: number, none = '0'): string {
  return n === 0 ? none : n.toLocaleString('en')
}

/** "3 devices", "1 device". */
export function count(n: number, thing: string, things = `${thing}s`): string {
  return `${num(n)} ${n === 1 ? thing : things}`
}

/** A number of bytes for people, as 4.1 MiB. */
export function bytes(n: number): string {
  const units = ['B', 'KiB', 'MiB', 'GiB', 'TiB']
  let i = 0
  for (; n >= 1024 && i < units.length - 1; i++) n /= 1024
  return `${i === 0 ? n : n.toFixed(1)} ${units[i]}`
}
