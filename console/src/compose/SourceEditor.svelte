<script lang="ts">
  /** The text of the draft beside its sheet: both edit one draft, and the cursor of one selects in the other. */
  import { onMount } from 'svelte';
  import { autocompletion, type CompletionContext } from '@codemirror/autocomplete';
  import { defaultKeymap, history, historyKeymap, indentWithTab } from '@codemirror/commands';
  import { yaml } from '@codemirror/lang-yaml';
  import { indentUnit } from '@codemirror/language';
  import { lintGutter, setDiagnostics, type Diagnostic as Mark } from '@codemirror/lint';
  import { Annotation, EditorState } from '@codemirror/state';
  import { EditorView, highlightActiveLine, hoverTooltip, keymap, lineNumbers } from '@codemirror/view';
  import type { Hovered } from '../api/types';
  import type { Composer } from './composer.svelte';
  import { bytes, position } from '../lib/bytes';
  import { completionOf, highlighting, lookOf } from './editor';

  let { composer, label = 'Source of the draft', onplace }: { composer: Composer; label?: string; onplace?: (at: string) => void } = $props();
  let box: HTMLElement;
  let view: EditorView | undefined;
  const fromOutside = Annotation.define<boolean>();

  async function complete(context: CompletionContext) {
    const text = context.state.doc.toString();
    if (!context.explicit && !/[\w$.]$/.test(text.slice(0, context.pos))) return null;
    composer.write(text);
    return completionOf(composer, {}, text, context.pos, 0);
  }

  const hover = hoverTooltip(async (view, pos) => {
    const text = view.state.doc.toString();
    const { hover } = await composer.ask<Hovered>('hover', { position: bytes(text, pos) });
    if (!hover) return null;
    return {
      pos: position(text, hover.range.start),
      end: position(text, hover.range.end),
      create: () => {
        const dom = document.createElement('div');
        dom.className = 'hovered';
        dom.textContent = hover.text.replace(/```/g, '').replace(/[`*]/g, '').trim();
        return { dom };
      },
    };
  });

  onMount(() => {
    view = new EditorView({
      parent: box,
      state: EditorState.create({
        doc: composer.text,
        extensions: [
          lineNumbers(), history(), yaml(), indentUnit.of('  '), highlighting(), highlightActiveLine(), lintGutter(), hover,
          autocompletion({ override: [complete], icons: false }),
          keymap.of([indentWithTab, ...historyKeymap, ...defaultKeymap.filter((one) => one.key !== 'Mod-Enter')]),
          EditorView.contentAttributes.of({ 'aria-label': label, tabindex: '0' }),
          lookOf(),
          EditorView.updateListener.of((update) => {
            const typed = update.transactions.some((one) => !one.annotation(fromOutside));
            if (update.docChanged && typed) composer.write(update.state.doc.toString());
            if ((update.selectionSet || update.docChanged) && typed && update.view.hasFocus) {
              const at = bytes(update.state.doc.toString(), update.state.selection.main.head);
              const around = (composer.sheet?.parts ?? []).filter((part) => part.range.start <= at && at <= part.range.end);
              const best = around.sort((a, b) => a.range.end - a.range.start - (b.range.end - b.range.start))[0];
              if (best) onplace?.(best.at);
            }
          }),
        ],
      }),
    });
    return () => view?.destroy();
  });

  $effect(() => {
    const text = composer.text;
    if (!view || view.state.doc.toString() === text) return;
    // Only what differs is replaced, so that the cursor stays where it was.
    const before = view.state.doc.toString();
    let [start, end] = [0, 0];
    while (start < before.length && start < text.length && before[start] === text[start]) start += 1;
    while (end < before.length - start && end < text.length - start && before[before.length - 1 - end] === text[text.length - 1 - end]) end += 1;
    view.dispatch({ changes: { from: start, to: before.length - end, insert: text.slice(start, text.length - end) }, annotations: fromOutside.of(true) });
  });

  $effect(() => {
    const found = composer.findings;
    if (!view) return;
    const text = view.state.doc.toString();
    const marks: Mark[] = found.map((one) => ({
      from: Math.min(text.length, position(text, one.start)),
      to: Math.min(text.length, position(text, one.end)),
      severity: one.severity,
      message: one.message + (one.help ? `; ${one.help}` : ''),
      actions: (one.fixes ?? []).map((fix) => ({ name: fix.title.replace(/`/g, ''), apply: () => void composer.edit([fix.edit]) })),
    }));
    view.dispatch(setDiagnostics(view.state, marks));
  });

  /** Shows a line, from 1. */
  export function toLine(number: number) {
    if (!view) return;
    const line = view.state.doc.line(Math.min(Math.max(1, number), view.state.doc.lines));
    view.dispatch({ selection: { anchor: line.from }, effects: EditorView.scrollIntoView(line.from, { y: 'start', yMargin: 24 }), annotations: fromOutside.of(true) });
  }

  /** Shows a paragraph. */
  export function reveal(start: number, end: number) {
    if (!view || view.hasFocus) return;
    const text = view.state.doc.toString();
    const [from, to] = [position(text, start), position(text, end)];
    view.dispatch({ selection: { anchor: to, head: from }, effects: EditorView.scrollIntoView(from, { y: 'center' }), annotations: fromOutside.of(true) });
  }
</script>

<div class="panel source" bind:this={box}></div>

<style>
  .source {
    font-size: 0.75rem;
    overflow: hidden;
  }

  .source :global(.cm-editor) {
    height: calc(100vh - 13rem);
  }

  .source :global(.cm-content) {
    font-size: 0.75rem;
  }

  .source :global(.hovered) {
    padding: 0.5rem;
    max-width: 26rem;
    white-space: pre-wrap;
    font-size: 0.75rem;
  }
</style>
