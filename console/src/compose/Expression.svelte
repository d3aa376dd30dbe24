<script lang="ts">
  /**
   * An expression, or a text that may hold some, on a line or two: highlighted, completed by the service.
   * Enter leaves it to the form, Tab to the next field.
   */
  import { onMount } from 'svelte';
  import { autocompletion, closeBrackets, type CompletionContext, type CompletionResult, startCompletion } from '@codemirror/autocomplete';
  import { EditorState, Prec } from '@codemirror/state';
  import { EditorView, keymap, placeholder as placeholderOf, tooltips } from '@codemirror/view';
  import { defaultKeymap, history, historyKeymap, insertNewlineAndIndent } from '@codemirror/commands';
  import { type Extension, Compartment } from '@codemirror/state';
  import { completionOf, lookOf, expressionLanguage, templateMarks } from './editor';
  import type { Composer } from './composer.svelte';

  interface Props {
    composer: Composer;
    /** The place of the field. */
    at: string;
    value: string;
    /** Whether it is an expression alone, and no text with expressions. */
    expression: boolean;
    /** Whether it is made of statements, on several lines. */
    script?: boolean;
    label: string;
    describedby?: string;
    placeholder?: string;
    invalid?: boolean;
    oninput: (value: string) => void;
    onfocus?: () => void;
    onblur?: () => void;
    onpick?: () => void;
  }
  let { composer, at, value, expression, script = false, label, describedby, placeholder = '', invalid = false, oninput, onfocus, onblur, onpick }: Props = $props();

  let box: HTMLElement;
  let view: EditorView | undefined;
  let pointed = false;
  const language = new Compartment();
  const attributes = new Compartment();

  async function complete(context: CompletionContext): Promise<CompletionResult | null> {
    const text = context.state.doc.toString();
    let [from, source] = [0, text];
    if (!expression) {
      const open = text.lastIndexOf('${', context.pos);
      if (open < 0 || text.slice(open, context.pos).includes('}')) return null;
      from = open + 2;
      const end = text.indexOf('}', context.pos);
      source = text.slice(from, end < 0 ? undefined : end);
    }
    if (!context.explicit && !/(\.|\b[A-Za-z_$][\w$]*)$/.test(text.slice(0, context.pos))) return null;
    return completionOf(composer, { at, expression: source }, source, context.pos - from, from);
  }

  function modeOf(isExpression: boolean): Extension {
    return isExpression ? expressionLanguage() : templateMarks();
  }

  function attributesOf(): Extension {
    return EditorView.contentAttributes.of({
      'aria-label': label,
      ...(describedby ? { 'aria-describedby': describedby } : {}),
      ...(invalid ? { 'aria-invalid': 'true' } : {}),
    });
  }

  onMount(() => {
    view = new EditorView({
      parent: box,
      state: EditorState.create({
        doc: value,
        extensions: [
          Prec.high(
            keymap.of([
              { key: 'Alt-ArrowDown', run: () => (onpick?.(), true) },
              { key: 'Ctrl-Space', run: startCompletion },
            ]),
          ),
          history(),
          closeBrackets(),
          autocompletion({ override: [complete], icons: false, activateOnTypingDelay: 80 }),
          tooltips({ position: 'fixed' }),
          // Enter, Escape and Ctrl+Enter belong to the sheet; a list of suggestions takes them first.
          keymap.of([...(script ? [{ key: 'Enter', run: insertNewlineAndIndent }] : [{ key: 'Enter', run: () => true }]), ...historyKeymap, ...defaultKeymap.filter((one) => !['Enter', 'Mod-Enter', 'Escape', 'Alt-ArrowUp', 'Alt-ArrowDown'].includes(one.key ?? ''))]),
          // By keyboard the cursor comes to the end, as one goes on there; at once, before the next key.
          EditorView.domEventHandlers({
            focus: (_, view) => {
              if (!pointed && !script) queueMicrotask(() => view.dispatch({ selection: { anchor: view.state.doc.length } }));
            },
          }),
          EditorView.lineWrapping,
          placeholderOf(placeholder),
          language.of(modeOf(expression)),
          attributes.of(attributesOf()),
          lookOf(),
          EditorView.updateListener.of((update) => {
            if (update.docChanged && update.transactions.some((one) => !one.annotation(fromOutside))) {
              oninput(update.state.doc.toString());
            }
            if (update.focusChanged) (update.view.hasFocus ? onfocus : onblur)?.();
          }),
        ],
      }),
    });
    return () => view?.destroy();
  });

  $effect(() => {
    const wanted = value;
    if (!view || view.state.doc.toString() === wanted || view.hasFocus) return;
    replace(wanted);
  });
  $effect(() => {
    view?.dispatch({ effects: language.reconfigure(modeOf(expression)) });
  });
  $effect(() => {
    void invalid, label, describedby;
    view?.dispatch({ effects: attributes.reconfigure(attributesOf()) });
  });

  function replace(text: string) {
    view?.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: text }, annotations: fromOutside.of(true) });
  }

  /** Writes a value: in place of all, or at the cursor within an expression. */
  export function put(text: string, whole: boolean) {
    if (!view) return;
    const { from, to } = whole ? { from: 0, to: view.state.doc.length } : view.state.selection.main;
    view.dispatch({ changes: { from, to, insert: text }, selection: { anchor: from + text.length } });
    view.focus();
  }

  export function focus() {
    view?.focus();
    view?.dispatch({ selection: { anchor: view.state.doc.length } });
  }
</script>

<script lang="ts" module>
  import { Annotation } from '@codemirror/state';
  const fromOutside = Annotation.define<boolean>();
</script>

<div class="expression" class:code={expression} class:script class:invalid bind:this={box} role="presentation" onpointerdown={() => { pointed = true; setTimeout(() => (pointed = false), 300); }}></div>

<style>
  .expression {
    background: var(--cds-field-02);
    border-bottom: 1px solid var(--cds-ui-04);
    min-width: 0;
  }

  .expression:focus-within {
    outline: 2px solid var(--cds-focus);
    outline-offset: -2px;
  }

  .invalid {
    outline: 2px solid var(--cds-support-01);
    outline-offset: -2px;
  }

  .script {
    max-height: 24rem;
    overflow: auto;
  }

  .code {
    box-shadow: inset 3px 0 var(--cds-interactive-04);
  }
</style>
