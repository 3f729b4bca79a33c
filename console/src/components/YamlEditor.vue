<script setup lang="ts">
// An editor of YAML with conditions in it. It lives in a shadow root, where its
// styles are constructed and need no inline style, which the page's policy
// forbids.
import { autocompletion, closeBrackets, type CompletionContext } from '@codemirror/autocomplete'
import { defaultKeymap, history, historyKeymap, indentWithTab } from '@codemirror/commands'
import { yaml } from '@codemirror/lang-yaml'
import { bracketMatching, HighlightStyle, indentOnInput, syntaxHighlighting } from '@codemirror/language'
import { lintGutter, setDiagnostics, type Diagnostic } from '@codemirror/lint'
import { highlightSelectionMatches, search, searchKeymap } from '@codemirror/search'
import { EditorState } from '@codemirror/state'
import { drawSelection, EditorView, highlightActiveLine, keymap, lineNumbers } from '@codemirror/view'
import { tags } from '@lezer/highlight'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import type { Vocabulary } from '../api/client'

interface Mark {
  line: number
  column: number
  message: string
  warning?: boolean
}
const props = defineProps<{
  text: string
  marks: Mark[]
  vocabulary: Vocabulary | null
  readonly?: boolean
  label: string
}>()
const emit = defineEmits<{ change: [text: string] }>()
const host = ref<HTMLElement>()
let view: EditorView | undefined

const operators = [
  'and',
  'or',
  'not',
  'in',
  'contains',
  'starts with',
  'ends with',
  'matches',
  'known(',
  'age(',
  'until(',
  'proved(',
  'any c in certs (',
  'count t in threats (',
]

/** Names of attributes, words of their values, levels, operators and keys. */
function complete(context: CompletionContext) {
  const word = context.matchBefore(/[\w.-]+/)
  if (!word && !context.explicit) return null
  const v = props.vocabulary
  const line = context.state.doc.lineAt(context.pos)
  const before = line.text.slice(0, context.pos - line.from)
  // After a comparison the words of that attribute come first.
  const compared = /([\w.]+)\s*(?:==|!=|<=|>=|<|>|in\s*\[[^\]]*)\s*[\w-]*$/.exec(before)?.[1]
  const words =
    v?.names.find((n) => n.name === compared)?.words ??
    (compared === 'level' || /\b(?:cap|unknown|uncovered|level):\s*[\w-]*$/.test(before) ? v?.ladder : undefined) ??
    []
  return {
    from: word?.from ?? context.pos,
    validFor: /^[\w.-]*$/,
    options: [
      ...words.map((label) => ({ label, type: 'enum', boost: 20 })),
      ...(v?.names ?? []).map((n) => ({ label: n.name, type: 'variable', detail: n.type, info: n.title, boost: 5 })),
      ...(v?.ladder ?? []).map((label) => ({ label, type: 'enum', detail: 'level' })),
      ...(v?.resources ?? []).map((r) => ({ label: r.id, type: 'constant', detail: 'resource' })),
      ...operators.map((label) => ({ label, type: 'keyword' })),
      ...(v?.keys ?? []).map((label) => ({ label, type: 'property', boost: -5 })),
    ],
  }
}

const theme = EditorView.theme({
  '&': { height: '100%', fontSize: '13px', backgroundColor: 'var(--sheet)', color: 'var(--ink)' },
  '.cm-scroller': { fontFamily: 'var(--mono)', lineHeight: '1.5' },
  '.cm-content': { caretColor: 'var(--ink)' },
  '.cm-cursor': { borderLeftColor: 'var(--ink)' },
  '.cm-gutters': {
    backgroundColor: 'transparent',
    color: 'var(--ink-soft)',
    border: 'none',
    borderRight: '1px solid var(--rule)',
  },
  '.cm-activeLine': { backgroundColor: 'color-mix(in srgb, var(--metal-soft) 55%, transparent)' },
  '.cm-activeLineGutter': { backgroundColor: 'transparent' },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': {
    backgroundColor: 'color-mix(in srgb, var(--metal) 26%, transparent) !important',
  },
  '&.cm-focused': { outline: '2px solid var(--metal)' },
  '.cm-tooltip': { backgroundColor: 'var(--sheet)', border: '1px solid var(--rule)', color: 'var(--ink)' },
  '.cm-tooltip-autocomplete ul li[aria-selected]': { backgroundColor: 'var(--metal-soft)', color: 'var(--ink)' },
  '.cm-lint-marker': { width: '1em', fontWeight: '700', color: 'var(--metal)', textAlign: 'center' },
  '.cm-lint-marker-error': { content: '"!"' },
  '.cm-lint-marker-warning': { content: '"?"' },
  '.cm-lintRange-error': { backgroundImage: 'none', textDecoration: 'underline wavy var(--metal)' },
  '.cm-lintRange-warning': { backgroundImage: 'none', textDecoration: 'underline dotted var(--metal)' },
  '.cm-diagnostic-error': { borderLeft: '3px solid var(--metal)' },
  '.cm-diagnostic-warning': { borderLeft: '3px dashed var(--metal)' },
})
const ink = HighlightStyle.define([
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: 'var(--metal)' },
  { tag: tags.comment, color: 'var(--ink-soft)', fontStyle: 'italic' },
  { tag: [tags.string, tags.special(tags.string)], color: 'var(--good)' },
])

/** Problems as marks on the lines where they stand. */
function diagnostics(state: EditorState): Diagnostic[] {
  return props.marks
    .filter((m) => m.line > 0 && m.line <= state.doc.lines)
    .map((m) => {
      const line = state.doc.line(m.line)
      const from = Math.min(line.to, line.from + Math.max(0, m.column - 1))
      const length = /^[\w.-]*/.exec(state.sliceDoc(from, line.to))?.[0].length || 1
      return {
        from,
        to: Math.min(line.to, from + length),
        severity: m.warning ? 'warning' : 'error',
        message: m.message,
      }
    })
}

const show = () => view?.dispatch(setDiagnostics(view.state, diagnostics(view.state)))

onMounted(() => {
  const root = host.value!.attachShadow({ mode: 'open' })
  const state = EditorState.create({
    doc: props.text,
    extensions: [
      lineNumbers(),
      history(),
      drawSelection(),
      indentOnInput(),
      bracketMatching(),
      closeBrackets(),
      highlightActiveLine(),
      highlightSelectionMatches(),
      search({ top: true }),
      lintGutter(),
      yaml(),
      syntaxHighlighting(ink),
      theme,
      EditorView.lineWrapping,
      EditorState.readOnly.of(props.readonly ?? false),
      EditorView.contentAttributes.of({ 'aria-label': props.label }),
      autocompletion({ override: [complete] }),
      keymap.of([...searchKeymap, ...defaultKeymap, ...historyKeymap, indentWithTab]),
      EditorView.updateListener.of((u) => {
        if (u.docChanged) emit('change', u.state.doc.toString())
      }),
    ],
  })
  view = new EditorView({ state, parent: root, root })
  show()
})
onBeforeUnmount(() => view?.destroy())
watch(
  () => props.text,
  (text) => {
    if (view && text !== view.state.doc.toString())
      view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: text } })
  },
)
watch(() => props.marks, show)

/** Puts the cursor where something stands. */
function go(line: number, column: number) {
  if (!view || line > view.state.doc.lines) return
  const at = view.state.doc.line(Math.max(1, line))
  view.dispatch({
    selection: { anchor: Math.min(at.to, at.from + Math.max(0, column - 1)) },
    effects: EditorView.scrollIntoView(at.from, { y: 'center' }),
  })
  view.focus()
}
defineExpose({ go })
</script>

<template><div ref="host" class="editor" @keydown.esc.stop /></template>

<style scoped>
.editor {
  height: 100%;
  border: 1px solid var(--rule);
}
</style>
