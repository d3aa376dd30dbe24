<script lang="ts">
  /** The values that fit the field which is edited, with their types and samples; the others with the reason why they do not. */
  import { line } from '../lib/show';
  import type { Desk } from './desk.svelte';
  import { at } from './samples';

  let { desk }: { desk: Desk } = $props();
  let words = $state('');
  let active = $state(-1);
  let search: HTMLInputElement | undefined = $state(undefined);
  const id = $props.id();
  const MOST = 60;

  const found = $derived(desk.values?.values ?? []);
  const shown = $derived.by(() => {
    const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
    return found.filter((one) => wanted.every((word) => one.expression.toLowerCase().includes(word))).slice(0, MOST);
  });
  const samples = $derived(desk.samples);

  function sample(choice: { path: (string | number)[]; example: unknown }): { text: string; made: boolean } {
    const real = at(samples, choice.path);
    return real === undefined ? { text: line(choice.example), made: true } : { text: line(real), made: false };
  }

  $effect(() => {
    desk.onpick(() => {
      active = shown.length ? 0 : -1;
      search?.focus();
    });
  });
  $effect(() => {
    void desk.focused?.at;
    words = '';
    active = -1;
  });

  function choose(expression: string) {
    desk.focused?.put(expression);
  }

  function key(event: KeyboardEvent) {
    if (event.key === 'ArrowDown' || event.key === 'ArrowUp') {
      active = Math.min(shown.length - 1, Math.max(0, active + (event.key === 'ArrowDown' ? 1 : -1)));
      document.getElementById(`${id}-${active}`)?.scrollIntoView({ block: 'nearest' });
    } else if (event.key === 'Enter' && shown[Math.max(0, active)]) {
      choose(shown[Math.max(0, active)]?.expression ?? '');
    } else if (event.key === 'Escape') {
      desk.focused?.focus();
    } else return;
    event.preventDefault();
    event.stopPropagation();
  }
</script>

{#if desk.focused && desk.values}
  <section class="panel" aria-label="Values">
    <h2>Values for “{desk.focused.label}”</h2>
    <p class="dim">{desk.values.wanted ? `Wants ${desk.values.wanted}.` : 'Takes anything.'} Samples are {desk.sampled}.</p>
    <input bind:this={search} bind:value={words} placeholder="Search (Alt+↓)" aria-label="Search values" role="combobox" aria-expanded="true" aria-controls="{id}-list"
      aria-activedescendant={active >= 0 ? `${id}-${active}` : undefined} onkeydown={key} autocomplete="off" />
    <ul id="{id}-list" role="listbox" aria-label="Values in scope">
      {#each shown as choice, index (choice.expression)}
        {@const value = sample(choice)}
        <li id="{id}-{index}" role="option" aria-selected={index === active} class:unfit={choice.why} style:--depth={choice.path.length - 1} title={choice.origin || choice.type}
          onmousedown={(event) => { event.preventDefault(); choose(choice.expression); }}>
          <span class="mono name">{choice.expression}</span>
          <span class="of">{choice.why || choice.type}</span>
          <span class="mono sample" class:made={value.made}>{value.text}</span>
        </li>
      {:else}
        <li class="none dim">No value is called like this.</li>
      {/each}
    </ul>
    {#if found.length > shown.length && !words}<p class="dim">{found.length - shown.length} more; search for them.</p>{/if}
  </section>
{/if}

<style>
  section {
    font-size: 0.8125rem;
  }

  h2 {
    font-size: 0.875rem;
    font-weight: 600;
    padding: 0.5rem 0.75rem 0;
  }

  p {
    font-size: 0.75rem;
    padding: 0 0.75rem 0.375rem;
  }

  input {
    width: 100%;
    height: 2rem;
    background: var(--cds-field-01);
    border: 0;
    border-bottom: 1px solid var(--cds-ui-04);
    color: inherit;
    padding: 0 0.75rem;
    font-size: 0.8125rem;
  }

  input:focus {
    outline: 2px solid var(--cds-focus);
    outline-offset: -2px;
  }

  ul {
    max-height: 20rem;
    overflow: auto;
  }

  li {
    display: grid;
    grid-template-columns: minmax(0, 1.5fr) minmax(0, 0.9fr) minmax(0, 0.9fr);
    gap: 0.5rem;
    padding: 0.25rem 0.75rem;
    border-left: 3px solid var(--cds-interactive-04);
    border-bottom: 1px solid var(--cds-ui-03);
    cursor: pointer;
    line-height: 1.125rem;
  }

  li.unfit,
  li.none {
    border-left-color: transparent;
    color: var(--cds-text-02);
  }

  li.none {
    display: block;
  }

  li:hover,
  li[aria-selected='true'] {
    background: var(--cds-selected-ui);
  }

  .name,
  .sample {
    font-size: 0.75rem;
    overflow-wrap: anywhere;
  }

  .of {
    font-size: 0.75rem;
    overflow: hidden;
    text-overflow: ellipsis;
    max-height: 2.25rem;
  }

  .sample {
    overflow: hidden;
    text-overflow: ellipsis;
    max-height: 2.25rem;
  }

  .made {
    color: var(--cds-text-02);
    font-style: italic;
  }
</style>
