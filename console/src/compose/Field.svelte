<script lang="ts">
  /** One key of a form: its value, what it wants, findings about it with their fixes. */
  import type { Diagnostic, Evaluated, Field } from '../api/types';
  import { line } from '../lib/show';
  import Words from '../parts/Words.svelte';
  import type { Composer } from './composer.svelte';
  import type { Desk } from './desk.svelte';
  import Expression from './Expression.svelte';
  import { beginsExpression, written } from './field';
  import Findings from './Findings.svelte';
  import { parent, remove, rename } from './tree';

  interface Props {
    composer: Composer;
    desk: Desk;
    field: Field;
    findings: Diagnostic[];
    /** Whether it takes the cursor as soon as it is shown. */
    first?: boolean;
  }
  let { composer, desk, field, findings, first = false }: Props = $props();

  const id = $props.id();
  let typed: string | undefined = $state(undefined);
  let chosen: boolean | undefined = $state(undefined);
  let focused = $state(false);
  let shown: Evaluated | undefined = $state.raw(undefined);
  let timer: ReturnType<typeof setTimeout> | undefined;
  let looking: ReturnType<typeof setTimeout> | undefined;
  let editor: Expression | undefined = $state(undefined);
  let box: HTMLElement | undefined = $state(undefined);

  const isValue = $derived(field.shape === 'value');
  const script = $derived(field.shape === 'script');
  const expression = $derived(script || field.shape === 'expression' || (isValue && (chosen ?? (field.expression ?? false))));
  const value = $derived(typed ?? field.value ?? '');
  const own = $derived(findings.filter((one) => one.severity === 'error'));
  const long = $derived(field.label === 'statement' || field.label === 'about' || value.includes('\n'));
  const hint = $derived([field.expects, field.required ? 'required' : ''].filter(Boolean).join(', '));
  const nameless = $derived(/^\d+$/.test(field.label));

  $effect(() => {
    // What the service made of it is shown once nobody types here.
    void field.value;
    if (!focused) {
      typed = undefined;
      chosen = undefined;
    }
  });
  // A field that disappears with its paragraph is written before.
  $effect(() => () => commit(true));
  $effect(() => {
    if (!first || !box) return;
    const input = box.querySelector<HTMLElement>('input, textarea, select, .cm-content');
    input?.focus();
    if (input instanceof HTMLInputElement) input.select();
  });

  function input(next: string) {
    if (isValue && !expression && chosen === undefined && beginsExpression(next, desk.names)) chosen = true;
    typed = next;
    clearTimeout(timer);
    timer = setTimeout(() => commit(), 220);
    look();
  }

  /** Writes what was typed; `final` once the field is left. */
  function commit(final = false) {
    clearTimeout(timer);
    if (typed === undefined) return;
    if (typed === (field.value ?? '') && expression === (field.expression ?? false) && field.present) return;
    const changes = written(field, typed, expression);
    const [only] = changes;
    // What reads the result is renamed along, once the name is finished.
    if (field.label === 'id' && field.present && only?.change === 'text') {
      if (final) void desk.renameResult(field, typed, only);
      return;
    }
    if (changes.length) void composer.change(changes, composer.open, `field ${field.at}`);
  }

  function look() {
    clearTimeout(looking);
    if (!isValue && !script && field.shape !== 'expression') return;
    looking = setTimeout(async () => {
      const text = value;
      if (!text.trim() || (!expression && !text.includes('${'))) {
        shown = undefined;
        return;
      }
      try {
        const answer = await composer.ask<Evaluated>('evaluate', {
          at: field.at, expression: text, template: !expression, values: desk.samples,
        });
        if (text === value) shown = answer;
      } catch {
        shown = undefined;
      }
    }, 160);
  }

  function enter() {
    focused = true;
    if (isValue || script || field.shape === 'expression') {
      desk.focus({ at: field.at, label: field.label, put, focus: () => editor?.focus() });
      look();
    } else desk.unfocus();
  }

  function leave() {
    focused = false;
    commit(true);
  }

  /** Writes a chosen value: in place of all, or into the expression at the cursor. */
  function put(text: string) {
    if (!isValue && !script && field.shape !== 'expression') return;
    const whole = !expression || value.trim() === '' || /^[\w$.?[\]']*$/.test(value.trim());
    if (isValue) chosen = true;
    editor?.put(text, whole && !script && field.shape !== 'expression');
  }

  function toggle() {
    chosen = !expression;
    typed = value;
    if (chosen) typed = typed.replace(/^\$\{([^}]*)\}$/, '$1');
    commit();
    editor?.focus();
  }

  function named(event: Event) {
    const name = (event.currentTarget as HTMLInputElement).value.trim();
    if (name && name !== field.label) void desk.rename(field, name, rename(field.at, name)).then(() => (desk.wanted = `${parent(field.at)}/${name}`));
  }
</script>

<div class="field" data-field={field.at} data-empty={isValue && value === '' ? (field.required ? 'required' : '') : undefined} class:deep={field.depth > 0} class:wide={script} style:--indent="{Math.max(0, field.depth - 1)}rem" bind:this={box}>
  {#if field.free}
    <input class="name mono" aria-label="Name of {field.label}" value={field.label} onchange={named} readonly={nameless} />
  {:else}
    <label class="label" for={id} title={field.about}>{field.label}</label>
  {/if}
  <div class="value">
    <div class="line">
      {#if isValue || script || field.shape === 'expression'}
        {#if isValue}
          <button type="button" class="mode mono" aria-pressed={expression} aria-label="{field.label} is an expression" title={expression ? 'An expression; press for a fixed value' : 'A fixed value or text; press for an expression'} onclick={toggle}>{expression ? '${ }' : 'abc'}</button>
        {/if}
        <div class="grow">
          <Expression bind:this={editor} {composer} at={field.at} {value} {expression} {script} label={field.label} invalid={own.length > 0}
            describedby="{id}-about" placeholder={field.required ? 'choose a value, or type one' : ''}
            oninput={input} onfocus={enter} onblur={leave} onpick={() => desk.pick()} />
        </div>
      {:else if field.shape === 'switch'}
        <input {id} type="checkbox" checked={field.value === 'true'} aria-describedby="{id}-about"
          onchange={(event) => void composer.change(written(field, event.currentTarget.checked ? 'true' : 'false', false))} />
      {:else if field.shape === 'choice' && field.choices?.length && !['call', 'invoke', 'enqueue', 'sql'].includes(field.label)}
        <select {id} class="plain" aria-describedby="{id}-about" value={field.value ?? ''} onchange={(event) => void composer.change(written(field, event.currentTarget.value, false))}>
          <option value=""></option>
          {#each field.choices as choice (choice)}<option value={choice}>{choice}</option>{/each}
        </select>
      {:else if field.shape === 'yaml' || long}
        <textarea {id} class="mono" rows={Math.min(14, value.split('\n').length + (field.label === 'statement' ? 2 : 0))} aria-describedby="{id}-about" aria-invalid={own.length > 0}
          {value} oninput={(event) => input(event.currentTarget.value)} onfocus={enter} onblur={leave} spellcheck={field.label === 'about'}></textarea>
      {:else}
        <input {id} class="plain" class:mono={field.label !== 'about'} list={field.choices?.length ? `${id}-choices` : undefined} aria-describedby="{id}-about" aria-invalid={own.length > 0}
          {value} oninput={(event) => input(event.currentTarget.value)} onfocus={enter} onblur={leave} autocomplete="off" />
        {#if field.choices?.length}
          <datalist id="{id}-choices">{#each field.choices as choice (choice)}<option value={choice}></option>{/each}</datalist>
        {/if}
      {/if}
      {#if field.free}
        <button type="button" class="drop" aria-label="Remove {field.label}" title="Remove" onclick={() => void composer.change([remove(field.at)])}>×</button>
      {/if}
    </div>
    {#if focused && shown && !(shown.fault && own.length)}
      <div class="preview mono" class:fault={shown.fault} role="status">
        {#if shown.fault}<Words text={shown.fault} />{:else}= {line(shown.value)}<span class="dim">&ensp;{shown.type}{shown.made_up?.length ? `, ${shown.made_up.join(', ')} made up` : ''}</span>{/if}
      </div>
    {/if}
    {#if field.choices?.length && isValue && focused && !expression}
      <div class="choices">{#each field.choices as choice (choice)}<button type="button" onmousedown={(event) => { event.preventDefault(); editor?.put(choice, true); }}>{choice}</button>{/each}</div>
    {/if}
    <Findings {composer} {findings} />
  </div>
  <div class="hint" id="{id}-about">{hint}</div>
</div>

<style>
  .field {
    display: grid;
    grid-template-columns: 7.5rem minmax(0, 1fr) minmax(0, 8rem);
    column-gap: 0.75rem;
    align-items: start;
    padding: 0.125rem 0 0.125rem var(--indent, 0);
  }

  .wide {
    grid-template-columns: minmax(0, 1fr);
  }

  .label {
    padding-top: 0.375rem;
    overflow-wrap: anywhere;
    font-size: 0.8125rem;
  }

  .name {
    border: 0;
    border-bottom: 1px dashed var(--cds-ui-04);
    background: none;
    color: inherit;
    padding: 0.375rem 0;
    width: 100%;
    min-width: 0;
  }

  .line {
    display: flex;
    gap: 0.25rem;
    align-items: start;
  }

  .grow {
    flex: 1;
    min-width: 0;
  }

  .plain,
  textarea {
    width: 100%;
    background: var(--cds-field-02);
    border: 0;
    border-bottom: 1px solid var(--cds-ui-04);
    color: inherit;
    font-size: 0.8125rem;
    line-height: 1.25rem;
    padding: 0.375rem 0.5rem;
    resize: vertical;
  }

  input[type='checkbox'] {
    width: 1.25rem;
    height: 1.25rem;
    margin: 0.375rem 0;
    accent-color: var(--cds-interactive-01);
  }

  .plain:focus,
  textarea:focus,
  .name:focus {
    outline: 2px solid var(--cds-focus);
    outline-offset: -2px;
  }

  [aria-invalid='true'] {
    outline: 2px solid var(--cds-support-01);
    outline-offset: -2px;
  }

  .mode {
    flex: none;
    width: 2.25rem;
    height: 2rem;
    border: 1px solid var(--cds-ui-04);
    background: var(--cds-ui-01);
    color: var(--cds-text-02);
    font-size: 0.6875rem;
    white-space: nowrap;
    padding: 0;
    cursor: pointer;
  }

  .mode[aria-pressed='true'] {
    color: var(--cds-link-01);
    border-color: var(--cds-interactive-04);
  }

  .drop {
    flex: none;
    width: 2rem;
    height: 2rem;
    border: 0;
    background: none;
    color: var(--cds-text-02);
    font-size: 1rem;
    cursor: pointer;
  }

  .drop:hover {
    background: var(--cds-hover-ui);
    color: var(--cds-text-01);
  }

  .preview {
    font-size: 0.75rem;
    padding: 0.125rem 0.25rem;
    overflow-wrap: anywhere;
  }

  .fault {
    color: var(--cds-text-error);
  }

  .choices {
    display: flex;
    flex-wrap: wrap;
    gap: 0.25rem;
    padding-top: 0.25rem;
  }

  .choices button {
    border: 1px solid var(--cds-ui-04);
    background: none;
    color: inherit;
    padding: 0.25rem 0.5rem;
    min-height: 1.5rem;
    font: inherit;
    font-size: 0.75rem;
    cursor: pointer;
  }

  .hint {
    font-size: 0.75rem;
    line-height: 1rem;
    color: var(--cds-text-02);
    padding-top: 0.5rem;
    overflow: hidden;
    text-overflow: ellipsis;
  }

  @container (max-width: 34rem) {
    .field {
      grid-template-columns: 6rem minmax(0, 1fr);
    }

    .hint {
      grid-column: 2;
      padding-top: 0;
    }
  }

  @container (max-width: 20rem) {
    .field {
      grid-template-columns: minmax(0, 1fr);
    }

    .hint {
      grid-column: 1;
    }
  }
</style>
