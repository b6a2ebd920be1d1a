import { autocompletion, completionKeymap } from '@codemirror/autocomplete'
import { defaultKeymap, history, historyKeymap } from '@codemirror/commands'
import { PostgreSQL, sql, type SQLNamespace } from '@codemirror/lang-sql'
import { HighlightStyle, syntaxHighlighting } from '@codemirror/language'
import { Compartment, EditorState } from '@codemirror/state'
import { EditorView, keymap, lineNumbers } from '@codemirror/view'
import { tags } from '@lezer/highlight'
import type { Node } from './api'

export interface SqlEditor {
  text(): string
  setSchema(tree: Node): void
  destroy(): void
}

const looks = EditorView.theme({
  '&': { backgroundColor: 'var(--surface)', color: 'var(--ink)', fontSize: '0.8125rem' },
  '.cm-content': {
    fontFamily: 'var(--font-mono, monospace)',
    padding: '8px 0',
    minHeight: '6.5rem',
    caretColor: 'var(--ink)',
  },
  '.cm-gutters': { backgroundColor: 'var(--raised)', color: 'var(--muted)', border: 'none' },
  '&.cm-focused': { outline: '2px solid var(--focus)', outlineOffset: '-2px' },
  '.cm-cursor': { borderLeftColor: 'var(--ink)' },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': {
    backgroundColor: 'var(--feldspar-wash) !important',
  },
  '.cm-tooltip': { backgroundColor: 'var(--surface)', border: '1px solid var(--line-strong)', color: 'var(--ink)' },
  '.cm-tooltip-autocomplete ul li[aria-selected]': { backgroundColor: 'var(--garnet-wash)', color: 'var(--ink)' },
})

const inks = HighlightStyle.define([
  { tag: tags.keyword, color: 'var(--garnet)', fontWeight: '600' },
  { tag: [tags.string, tags.special(tags.string)], color: 'var(--epidote)' },
  { tag: tags.number, color: 'var(--feldspar)' },
  { tag: tags.comment, color: 'var(--muted)', fontStyle: 'italic' },
])

/** Makes a SQL editor in a host element; run is called on Ctrl-Enter. */
export function sqlEditor(host: HTMLElement, text: string, run: () => void): SqlEditor {
  const language = new Compartment()
  const view = new EditorView({
    parent: host,
    state: EditorState.create({
      doc: text,
      extensions: [
        lineNumbers(),
        history(),
        keymap.of([
          { key: 'Mod-Enter', run: () => (run(), true) },
          ...completionKeymap,
          ...defaultKeymap,
          ...historyKeymap,
        ]),
        language.of(sql({ dialect: PostgreSQL })),
        autocompletion(),
        syntaxHighlighting(inks),
        looks,
        EditorView.contentAttributes.of({ 'aria-label': 'SQL' }),
      ],
    }),
  })
  return {
    text: () => view.state.doc.toString(),
    setSchema: (tree) =>
      view.dispatch({ effects: language.reconfigure(sql({ dialect: PostgreSQL, schema: namespace(tree) })) }),
    destroy: () => view.destroy(),
  }
}

/** Turns the tree into what completion offers: tables with their columns. */
function namespace(node: Node): SQLNamespace {
  if (node.kind === 'table' || node.kind === 'view') return (node.children ?? []).map((c) => c.name)
  return Object.fromEntries((node.children ?? []).map((c) => [c.name, namespace(c)]))
}
