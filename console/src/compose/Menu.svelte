<script lang="ts">
  /** What can be done with a step, opened at its number. */
  import { onMount, tick } from 'svelte';
  import type { Part } from '../api/types';
  import type { Desk } from './desk.svelte';
  import { act, type Action, actionsOf } from './actions';

  let { desk, part, onclose }: { desk: Desk; part: Part; onclose: () => void } = $props();
  let list: HTMLElement | undefined = $state(undefined);
  let naming = $state(false);
  let name = $state('');
  const actions = $derived(actionsOf(desk, part));

  onMount(() => void tick().then(() => list?.querySelector<HTMLElement>('[role=menuitem]')?.focus()));

  async function run(action: Action) {
    if (action.id === 'extract') {
      name = `${desk.composer.name}-part`;
      naming = true;
      await tick();
      list?.querySelector('input')?.select();
      return;
    }
    onclose();
    await act(desk, part, action.id);
  }

  function key(event: KeyboardEvent) {
    const all = [...(list?.querySelectorAll<HTMLElement>('[role=menuitem]') ?? [])];
    const at = all.indexOf(document.activeElement as HTMLElement);
    if (event.key === 'ArrowDown') all[(at + 1) % all.length]?.focus();
    else if (event.key === 'ArrowUp') all[(at + all.length - 1) % all.length]?.focus();
    else if (event.key === 'Home') all[0]?.focus();
    else if (event.key === 'End') all.at(-1)?.focus();
    else if (event.key === 'Escape' || event.key === 'Tab') onclose();
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  function left(event: FocusEvent) {
    if (!list?.contains(event.relatedTarget as Node | null)) onclose();
  }
</script>

<div class="menu" bind:this={list} role="menu" tabindex="-1" aria-label="Step {part.number}" onkeydown={key} onfocusout={left}>
  {#if naming}
    <form onsubmit={(event) => { event.preventDefault(); onclose(); void desk.extract(desk.together(part.at), name); }}>
      <label for="extract-name">Name of the new workflow</label>
      <input id="extract-name" class="mono" bind:value={name} pattern="[a-z][a-z0-9\-]*" onkeydown={(event) => event.stopPropagation()} />
      <button type="submit">Extract</button>
    </form>
  {:else}
    {#each actions as action (action.id)}
      {#if action.line}<div class="rule" role="separator"></div>{/if}
      <button type="button" role="menuitem" tabindex="-1" aria-disabled={action.off ? true : undefined} class:off={action.off} title={action.off} onclick={() => { if (!action.off) void run(action); }}>
        <span>{action.label}</span><span class="mono dim">{action.keys ?? ''}</span>
      </button>
    {/each}
  {/if}
</div>

<style>
  .menu {
    position: absolute;
    z-index: 8;
    left: 0.75rem;
    top: 2.25rem;
    width: 17rem;
    background: var(--cds-ui-01);
    border: 1px solid var(--cds-ui-04);
    box-shadow: 0 2px 6px rgb(0 0 0 / 20%);
  }

  button {
    display: flex;
    justify-content: space-between;
    width: 100%;
    min-height: 1.75rem;
    align-items: center;
    padding: 0.125rem 0.75rem;
    border: 0;
    background: none;
    color: inherit;
    font: inherit;
    font-size: 0.8125rem;
    text-align: left;
    cursor: pointer;
  }

  button:hover,
  button:focus {
    background: var(--cds-hover-ui);
    outline: none;
  }

  button:focus-visible {
    outline: 2px solid var(--cds-focus);
    outline-offset: -2px;
  }

  .off {
    color: var(--cds-text-02);
    cursor: default;
  }

  .rule {
    border-top: 1px solid var(--cds-ui-03);
  }

  form {
    display: grid;
    gap: 0.375rem;
    padding: 0.75rem;
    font-size: 0.8125rem;
  }

  form input {
    height: 2rem;
    border: 0;
    border-bottom: 1px solid var(--cds-ui-04);
    background: var(--cds-field-02);
    color: inherit;
    padding: 0 0.5rem;
  }

  form button {
    background: var(--cds-interactive-01);
    color: var(--cds-text-04);
    justify-content: center;
  }
</style>
