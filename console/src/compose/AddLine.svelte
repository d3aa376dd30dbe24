<script lang="ts">
  /** A line on which a step is added: a verb, a service, or words of what an operation does. */
  import { onMount } from 'svelte';
  import type { Offer } from '../api/types';
  import type { Desk } from './desk.svelte';
  import { searched } from './offers';

  interface Props {
    desk: Desk;
    /** Where the step will stand. */
    at: string;
    /** Its number on the sheet. */
    number: string;
    depth: number;
    /** Whether it stays when it is left. */
    stays?: boolean;
  }
  let { desk, at, number, depth, stays = false }: Props = $props();
  let words = $state('');
  let offers: Offer[] = $state.raw([]);
  let open = $state(false);
  let active = $state(0);
  let input: HTMLInputElement | undefined = $state(undefined);
  const id = $props.id();

  const shown = $derived(searched(offers, words));

  onMount(() => {
    if (!stays || desk.composer.steps.length === 0) input?.focus();
  });

  $effect(() => {
    if (desk.adding === at) input?.focus();
  });

  async function load() {
    open = true;
    active = 0;
    await desk.composer.settled();
    offers = await desk.offers(at).catch(() => []);
  }

  async function choose(offer: Offer | undefined) {
    if (!offer) return;
    open = false;
    words = '';
    await desk.add(at, offer.value);
  }

  function close() {
    open = false;
    words = '';
    if (desk.adding === at) desk.adding = undefined;
  }

  function key(event: KeyboardEvent) {
    event.stopPropagation();
    if (event.key === 'ArrowDown' || event.key === 'ArrowUp') {
      active = Math.min(shown.length - 1, Math.max(0, active + (event.key === 'ArrowDown' ? 1 : -1)));
      document.getElementById(`${id}-${active}`)?.scrollIntoView({ block: 'nearest' });
    } else if (event.key === 'Enter') {
      void choose(shown[active]);
    } else if (event.key === 'Escape') {
      close();
      input?.blur();
    } else return;
    event.preventDefault();
  }
</script>

<div class="line" style:--indent="{2 * depth}rem" role="listitem" data-add={at}>
  <span class="number mono" aria-hidden="true">{number}</span>
  <div class="field">
    <input bind:this={input} bind:value={words} placeholder={stays ? 'Next step: a verb (call, let, if, each, reply …) or a service, e.g. “tides next”' : 'A verb, a service, or what it does'}
      aria-label="Add step {number}" role="combobox" aria-expanded={open} aria-controls="{id}-list" aria-activedescendant={open && shown.length ? `${id}-${active}` : undefined} autocomplete="off" spellcheck="false"
      onfocus={load} onblur={close} oninput={() => { open = true; active = 0; }} onkeydown={key} />
    {#if open}
      <ul id="{id}-list" role="listbox" aria-label="What can be added">
        {#each shown as offer, index (offer.label)}
          <li id="{id}-{index}" role="option" aria-selected={index === active} onmousedown={(event) => { event.preventDefault(); void choose(offer); }}>
            <span class="mono label">{offer.label}</span>
            <span class="about">{offer.about}</span>
            {#if offer.takes || offer.gives}<span class="flow mono dim">{offer.takes ? `(${offer.takes})` : ''}{offer.gives ? ` → ${offer.gives}` : ''}</span>{/if}
          </li>
        {:else}
          <li class="dim">{offers.length ? 'Nothing is called like this.' : 'Loading …'}</li>
        {/each}
      </ul>
    {/if}
  </div>
</div>

<style>
  .line {
    display: grid;
    grid-template-columns: calc(3.25rem + var(--indent)) minmax(0, 1fr);
    padding: 0.5rem 0.75rem 0.5rem 0;
    align-items: center;
  }

  .number {
    text-align: right;
    padding-right: 0.875rem;
    color: var(--cds-text-02);
  }

  .field {
    position: relative;
  }

  input {
    width: 100%;
    height: 2.25rem;
    border: 1px dashed var(--cds-ui-04);
    background: none;
    color: inherit;
    padding: 0 0.625rem;
    font-family: var(--mono);
    font-size: 0.8125rem;
    text-overflow: ellipsis;
  }

  input:focus {
    outline: 2px solid var(--cds-focus);
    outline-offset: -2px;
    border-color: transparent;
  }

  input::placeholder {
    color: var(--cds-text-02);
  }

  ul {
    position: absolute;
    z-index: 5;
    left: 0;
    right: 0;
    max-height: 19rem;
    overflow: auto;
    background: var(--cds-ui-01);
    border: 1px solid var(--cds-ui-04);
    box-shadow: 0 2px 6px rgb(0 0 0 / 20%);
  }

  li {
    display: grid;
    grid-template-columns: minmax(0, 14rem) minmax(0, 1fr);
    gap: 0 0.75rem;
    padding: 0.375rem 0.625rem;
    border-bottom: 1px solid var(--cds-ui-03);
    cursor: pointer;
    font-size: 0.8125rem;
    line-height: 1.125rem;
  }

  li:hover,
  li[aria-selected='true'] {
    background: var(--cds-selected-ui);
  }

  .flow {
    grid-column: 2;
    font-size: 0.75rem;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }

  .label {
    overflow-wrap: anywhere;
  }
</style>
