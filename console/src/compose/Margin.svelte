<script lang="ts">
  /** What a step of a trial or run did, in the margin of its paragraph: all items of a loop, page by page, where it is open. */
  import type { Part, Step } from '../api/types';
  import { details, result, shownStep, summary } from '../lib/sheet';
  import { block } from '../lib/show';
  import RunState from '../parts/RunState.svelte';

  let { part, taken, open, why }: { part: Part; taken: Step[] | undefined; open: boolean; why: string } = $props();
  const PAGE = 5;
  let page = $state(0);
  const step = $derived(shownStep(taken));
  const pages = $derived(Math.ceil((taken?.length ?? 0) / PAGE));
</script>

{#if step}
  <span class="line">
    {#if step.state !== 'succeeded' || step.attempts > 1}<RunState state={step.state === 'succeeded' ? 'caught' : step.state} label={false} />{/if}
    <span>{summary(part, step)}</span>
    {#if taken && taken.length > 1}<span class="dim">× {taken.length}</span>{/if}
  </span>
  <span class="mono clip" class:why={step.failure && step.state !== 'succeeded'} class:open>{result(part, step)}</span>
  {#if open && taken}
    {#each taken.slice(page * PAGE, (page + 1) * PAGE) as one, index (index)}
      {#if one.items}<div class="dim mono">[{one.items.split('.').join('][')}] {summary(part, one)}</div>{/if}
      {#each details(one) as [label, value] (label)}
        <details><summary>{label}</summary><pre>{block(value)}</pre></details>
      {/each}
    {/each}
    {#if pages > 1}
      <span class="pages">
        <button type="button" disabled={page === 0} onclick={() => (page -= 1)}>before</button>
        <span class="dim">{page + 1} of {pages}</span>
        <button type="button" disabled={page + 1 >= pages} onclick={() => (page += 1)}>next</button>
      </span>
    {/if}
  {/if}
{:else}
  <span class="dim">{why}</span>
{/if}

<style>
  .line {
    display: flex;
    gap: 0.375rem;
    align-items: center;
    min-width: 0;
  }

  .clip {
    display: block;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    font-size: 0.75rem;
  }

  .clip.open,
  .why {
    white-space: normal;
    overflow-wrap: anywhere;
  }

  .why {
    color: var(--cds-text-error);
  }

  details {
    font-size: 0.75rem;
  }

  summary {
    cursor: pointer;
    min-height: 1.5rem;
  }

  pre {
    max-height: 16rem;
    overflow: auto;
    white-space: pre-wrap;
    overflow-wrap: anywhere;
    font-size: 0.6875rem;
    line-height: 1rem;
    background: var(--cds-field-01);
    padding: 0.375rem;
  }

  .pages button {
    border: 0;
    background: none;
    color: var(--cds-link-01);
    min-height: 1.5rem;
    font: inherit;
    cursor: pointer;
  }

  .pages button:disabled {
    color: var(--cds-text-02);
  }
</style>
