import { computed } from 'vue'
import { isMap, isScalar, isSeq, parseDocument, type Document } from 'yaml'
import { useDraft } from '../stores/draft'

/** The text of a scalar that stands under a key of a mapping, as it was written. */
export const textOf = (node: unknown, key: string) =>
  isMap(node) && isScalar(node.get(key, true))
    ? String((node.get(key, true) as { source?: string; value: unknown }).source ?? node.get(key))
    : ''

/** Where something stands in a document. */
export type Path = readonly (string | number)[]

/** What a field of a form holds. */
export type Held = string | number | boolean | string[]

/**
 * Sets what stands at a path below a place of a document. What is empty is taken away,
 * and what is left empty around it.
 */
export function put(d: Document, place: Path, path: readonly string[], value: Held) {
  const held = typeof value === 'string' ? value.trim() : value
  const whole = [...place, ...path]
  if (held !== '' && held !== false && !(Array.isArray(held) && held.length === 0)) {
    const node = d.createNode(held)
    if (isSeq(node)) node.flow = true
    d.setIn(whole, isSeq(node) ? node : held)
    return
  }
  d.deleteIn(whole)
  for (let up = path.length - 1; up > 0; up--) {
    const around = [...place, ...path.slice(0, up)]
    const node = d.getIn(around)
    if (isMap(node) && node.items.length === 0) d.deleteIn(around)
  }
}

/**
 * The draft's files as documents that forms edit in place: comments and order
 * stay.
 */
export function useDocuments() {
  const draft = useDraft()
  const yaml = (name: string) => /\.ya?ml$/.test(name)

  /** The files that are not readable as YAML now, so that a form cannot show them. */
  const broken = computed(() =>
    draft.files.filter((f) => yaml(f.name) && parseDocument(f.text).errors.length > 0).map((f) => f.name),
  )
  const documents = computed(() => {
    const all = new Map<string, Document>()
    for (const f of draft.files) {
      if (!yaml(f.name)) continue
      const d = parseDocument(f.text)
      if (d.errors.length === 0) all.set(f.name, d)
    }
    return all
  })

  /** Changes the document of a file and writes it back to the draft. */
  function change(file: string, how: (d: Document) => void) {
    const f = draft.files.find((x) => x.name === file)
    if (!f) return
    const d = parseDocument(f.text)
    how(d)
    draft.write(file, d.toString({ lineWidth: 0, flowCollectionPadding: false }))
  }

  return { broken, documents, change }
}
