/** What all editors of the console share: look, languages, completion by the service. */
import { type Completion, type CompletionResult, snippetCompletion } from '@codemirror/autocomplete';
import { javascriptLanguage } from '@codemirror/lang-javascript';
import { HighlightStyle, syntaxHighlighting } from '@codemirror/language';
import type { Extension } from '@codemirror/state';
import { Decoration, EditorView, MatchDecorator, ViewPlugin, type DecorationSet, type ViewUpdate } from '@codemirror/view';
import { tags } from '@lezer/highlight';
import type { Suggestion, Suggestions } from '../api/types';
import { bytes, position } from '../lib/bytes';
import type { Composer } from './composer.svelte';

const TYPES: Record<string, string> = { key: 'property', step: 'keyword', operation: 'function', member: 'property', method: 'method', function: 'function', name: 'variable' };

/** Asks what can stand at a position of a text; `from` is where the text begins in the editor. */
export async function completionOf(
  composer: Composer,
  question: Record<string, unknown>,
  text: string,
  at: number,
  from: number,
): Promise<CompletionResult | null> {
  const { suggestions } = await composer.ask<Suggestions>('completion', { ...question, position: bytes(text, at) });
  const first = suggestions[0];
  if (!first) return null;
  const start = from + position(text, Math.min(...suggestions.map((one) => one.replace.start)));
  return { from: Math.min(start, from + at), options: suggestions.map((one, index) => option(one, suggestions.length - index, text, from)), validFor: /^[\w$-]*$/ };
}

function option(one: Suggestion, boost: number, text: string, from: number): Completion {
  const range = { from: from + position(text, one.replace.start), to: from + position(text, one.replace.end) };
  const plain: Completion = {
    label: one.label,
    detail: one.detail,
    type: TYPES[one.kind] ?? 'text',
    info: one.about ? one.about.replace(/`/g, '') : undefined,
    boost: Math.max(-99, Math.min(99, boost - 50)),
  };
  if (one.snippet) {
    // Places to fill in are numbered; the editor wants braces around each.
    const made = snippetCompletion(one.insert.replace(/\$(\d)/g, '${$1}').replace(/\$\{(\d+):([^}]*)\}/g, '${$1:$2}').replace(/\\\$/g, '$'), plain);
    const apply = made.apply;
    return { ...made, apply: (view, completion, _, to) => typeof apply === 'function' && apply(view, completion, range.from, Math.max(to, range.to)) };
  }
  return {
    ...plain,
    apply: (view, _, __, to) =>
      view.dispatch({ changes: { from: range.from, to: Math.max(to, range.to), insert: one.insert }, selection: { anchor: range.from + one.insert.length } }),
  };
}

const colours = HighlightStyle.define([
  { tag: [tags.keyword, tags.bool, tags.null], color: 'var(--code-word)' },
  { tag: [tags.string, tags.special(tags.string)], color: 'var(--code-text)' },
  { tag: tags.number, color: 'var(--code-number)' },
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: 'var(--code-key)' },
  { tag: tags.comment, color: 'var(--cds-text-02)', fontStyle: 'italic' },
]);

export function highlighting(): Extension {
  return syntaxHighlighting(colours);
}

export function expressionLanguage(): Extension {
  return [javascriptLanguage, highlighting()];
}

const inside = new MatchDecorator({ regexp: /\$\{[^}]*\}?/g, decoration: Decoration.mark({ class: 'cm-inside' }) });

/** Marks the expressions in a text. */
export function templateMarks(): Extension {
  return ViewPlugin.fromClass(
    class {
      marks: DecorationSet;
      constructor(view: EditorView) {
        this.marks = inside.createDeco(view);
      }
      update(update: ViewUpdate) {
        this.marks = inside.updateDeco(update, this.marks);
      }
    },
    { decorations: (plugin) => plugin.marks },
  );
}

/** The nonce that allows the editor's own style sheet; the service draws one for each page. */
const nonce = document.querySelector<HTMLMetaElement>('meta[name=style-nonce]')?.content ?? '';

export function lookOf(): Extension {
  return [EditorView.cspNonce.of(nonce), look];
}

const look = EditorView.theme({
    '&': { color: 'var(--cds-text-01)', background: 'transparent' },
    '&.cm-focused': { outline: 'none' },
    '.cm-content': { fontFamily: 'var(--mono)', fontSize: '0.8125rem', padding: '0.375rem 0.5rem', caretColor: 'var(--cds-text-01)' },
    '.cm-line': { padding: '0' },
    '.cm-scroller': { fontFamily: 'var(--mono)', lineHeight: '1.25rem' },
    '.cm-placeholder': { color: 'var(--cds-text-05)' },
    '.cm-inside': { color: 'var(--cds-link-01)' },
    '.cm-cursor': { borderLeftColor: 'var(--cds-text-01)' },
    '.cm-gutters': { background: 'var(--cds-ui-01)', color: 'var(--cds-text-05)', border: 'none' },
    '.cm-activeLineGutter, .cm-activeLine': { background: 'var(--cds-hover-ui)' },
    '.cm-tooltip': { background: 'var(--cds-ui-01)', color: 'var(--cds-text-01)', border: '1px solid var(--cds-ui-04)' },
    '.cm-tooltip.cm-tooltip-autocomplete > ul': { fontFamily: 'var(--mono)', fontSize: '0.75rem', maxHeight: '14rem' },
    '.cm-tooltip.cm-tooltip-autocomplete > ul > li': { padding: '0.25rem 0.5rem' },
    '.cm-tooltip.cm-tooltip-autocomplete > ul > li[aria-selected]': { background: 'var(--cds-interactive-01)', color: 'var(--cds-text-04)' },
    '.cm-completionDetail': { fontStyle: 'normal', color: 'inherit', opacity: '0.8' },
    '.cm-completionInfo': { maxWidth: '22rem', padding: '0.5rem', fontSize: '0.75rem' },
    '.cm-selectionBackground, &.cm-focused .cm-selectionBackground': { background: 'var(--cds-selected-ui)' },
});
