<script lang="ts">
  /** A declared input as a row: name, type, rule, whether it is required, default, example; the rest as its JSON Schema. */
  import type { Diagnostic, Field } from '../api/types';
  import type { Composer } from './composer.svelte';
  import type { Desk } from './desk.svelte';
  import Findings from './Findings.svelte';
  import { exampleOf, retyped, ruled, ruleOf, typeOf, TYPES } from './inputs';
  import { remove, rename, set } from './tree';

  let { composer, desk, field, findings, first = false }: { composer: Composer; desk: Desk; field: Field; findings: Diagnostic[]; first?: boolean } = $props();
  let open = $state(false);
  let row: HTMLElement | undefined = $state(undefined);
  const schema = $derived((field.json ?? {}) as Record<string, unknown>);
  const optional = $derived(schema.optional === true || 'default' in schema);

  $effect(() => {
    if (first) row?.querySelector('input')?.select();
  });

  const write = (key: string, value: unknown) =>
    composer.change([value === undefined ? remove(`${field.at}/${key}`) : set(`${field.at}/${key}`, JSON.stringify(value))]);

  /** Writes several keys, and removes those without a value. */
  function rewrite(keys: Record<string, unknown>) {
    const changes = Object.entries(keys).flatMap(([key, value]) => {
      if (value === undefined) return key in schema ? [remove(`${field.at}/${key}`)] : [];
      return [set(`${field.at}/${key}`, JSON.stringify(value))];
    });
    if (changes.length) void composer.change(changes);
  }

  function parsed(text: string): unknown {
    if (typeOf(schema) === 'text' || ['date', 'date-time', 'one of', 'email', 'uri', 'uuid'].includes(typeOf(schema))) return text;
    try {
      return JSON.parse(text);
    } catch {
      return text;
    }
  }

  const shown = (value: unknown) => (value === undefined ? '' : typeof value === 'string' ? value : JSON.stringify(value));

  /** Gives the input another name; without one it keeps its own. */
  function named(input: HTMLInputElement) {
    const name = input.value.trim();
    if (name && name !== field.label) void desk.rename(field, name, rename(field.at, name));
    else input.value = field.label;
  }
</script>

<div class="row" role="row" bind:this={row} data-input={field.label}>
  <span role="cell"><input class="mono" aria-label="Name" value={field.label} onchange={(event) => named(event.currentTarget)} /></span>
  <span role="cell">
    <select aria-label="Type of {field.label}" value={typeOf(schema)} onchange={(event) => rewrite(retyped(schema, event.currentTarget.value))}>
      {#each TYPES as type (type)}<option value={type}>{type}</option>{/each}
      {#if !TYPES.includes(typeOf(schema))}<option value={typeOf(schema)}>{typeOf(schema)}</option>{/if}
    </select>
  </span>
  <span role="cell"><input aria-label="Rule of {field.label}" value={ruleOf(schema)} placeholder={typeOf(schema) === 'one of' ? 'A, B' : ''} onchange={(event) => rewrite(ruled(schema, event.currentTarget.value))} /></span>
  <span role="cell" class="check"><input type="checkbox" aria-label="{field.label} is required" checked={!optional}
      onchange={(event) => (event.currentTarget.checked ? rewrite({ optional: undefined, default: undefined }) : void write('optional', true))} /></span>
  <span role="cell"><input class="mono" aria-label="Default of {field.label}" value={shown(schema.default)}
      onchange={(event) => void rewrite({ default: event.currentTarget.value === '' ? undefined : parsed(event.currentTarget.value), ...('optional' in schema ? { optional: undefined } : {}) })} /></span>
  <span role="cell"><input class="mono" aria-label="Example of {field.label}" value={shown(exampleOf(schema))}
      onchange={(event) => void write('examples', event.currentTarget.value === '' ? undefined : [parsed(event.currentTarget.value)])} /></span>
  <span role="cell" class="end">
    <button type="button" aria-expanded={open} aria-label="Schema of {field.label}" title="Everything else, as JSON Schema" onclick={() => (open = !open)}>…</button>
    <button type="button" aria-label="Remove {field.label}" title="Remove" onclick={() => void composer.change([remove(field.at)])}>×</button>
  </span>
</div>
{#if open}
  <textarea class="mono" aria-label="JSON Schema of {field.label}" rows={Math.max(2, (field.value ?? '').split('\n').length)} value={field.value} onchange={(event) => void composer.change([set(field.at, event.currentTarget.value)])}></textarea>
{/if}
<Findings {composer} {findings} />

<style>
  .row {
    display: grid;
    grid-template-columns: var(--input-columns);
    gap: 0.375rem;
    align-items: center;
  }

  .row span {
    min-width: 0;
  }

  input:not([type]),
  select,
  textarea {
    width: 100%;
    min-width: 0;
    height: 2rem;
    background: var(--cds-field-02);
    border: 0;
    border-bottom: 1px solid var(--cds-ui-04);
    color: inherit;
    font-size: 0.8125rem;
    padding: 0 0.375rem;
  }

  textarea {
    height: auto;
    padding: 0.375rem;
  }

  input:focus,
  select:focus,
  textarea:focus {
    outline: 2px solid var(--cds-focus);
    outline-offset: -2px;
  }

  input[type='checkbox'] {
    width: 1.25rem;
    height: 1.25rem;
    accent-color: var(--cds-interactive-01);
  }

  .end {
    display: flex;
  }

  .end button {
    width: 1.75rem;
    height: 2rem;
    border: 0;
    background: none;
    color: var(--cds-text-02);
    cursor: pointer;
  }
</style>
