<script lang="ts">
  /** What a step of a past run knew when it began, an expression evaluated there, and the way on with the draft. */
  import { Button } from 'carbon-components-svelte';
  import type { Run, RunScope, Step } from '../api/types';
  import { Refused, session } from '../lib/api.svelte';
  import { block, line } from '../lib/show';
  import CopyText from './CopyText.svelte';

  let { run, number, ongo }: { run: Run; number: string; ongo: (number: string) => void } = $props();
  let items = $state('');
  let known = $state.raw<RunScope | undefined>(undefined);
  let expression = $state('');
  let why = $state('');

  /** The steps that were performed, in order, each number once. */
  const taken = $derived([...new Set(run.steps.map((step) => step.number))]);
  const here = $derived(taken.indexOf(number));
  const positions = $derived(run.steps.filter((step: Step) => step.number === number && step.items).map((step) => step.items ?? ''));

  async function look(at: string, of: string, evaluated: string) {
    const query = new URLSearchParams({ step: at });
    if (of) query.set('items', of);
    if (evaluated.trim()) query.set('expression', evaluated);
    try {
      const found = await session.get<RunScope>(`/runs/${encodeURIComponent(run.id)}/scope?${query}`);
      if (at !== number) return;
      known = found;
      why = '';
    } catch (refused) {
      known = undefined;
      why = refused instanceof Refused ? refused.message : String(refused);
    }
  }

  $effect(() => {
    items = '';
    void number;
    void look(number, '', expression);
  });

  const go = (by: number) => {
    const next = taken[here + by];
    if (next) ongo(next);
  };
</script>

<section class="panel" aria-label="Known at step {number}">
  <div class="row head">
    <strong>Step {number} knew</strong>
    <span class="row">
      <button type="button" class="link" disabled={here <= 0} onclick={() => go(-1)} aria-label="The step before">←</button>
      <button type="button" class="link" disabled={here < 0 || here + 1 >= taken.length} onclick={() => go(1)} aria-label="The next step">→</button>
    </span>
  </div>
  {#if positions.length > 1}
    <label for="known-item">Item</label>
    <select id="known-item" class="control" bind:value={items} onchange={() => void look(number, items, expression)}>
      <option value="">the first</option>
      {#each positions as position (position)}<option value={position}>[{position.split('.').join('][')}]</option>{/each}
    </select>
  {/if}
  {#if why}<p class="dim">{why}</p>{/if}
  {#each known?.names ?? [] as name (name.name)}
    <details>
      <summary><span class="mono">{name.name}</span> <span class="mono dim">{line(name.value).slice(0, 200)}</span></summary>
      <pre>{block(name.value)}</pre>
    </details>
  {/each}
  {#if known}
    <form onsubmit={(event) => { event.preventDefault(); void look(number, items, expression); }}>
      <label for="known-expression">Evaluate here</label>
      <div class="row"><input id="known-expression" class="control mono" bind:value={expression} placeholder="vessel.body.length_m * 3.2" spellcheck="false" autocomplete="off" /><button type="submit" class="link">Evaluate</button></div>
    </form>
    {#if known.fault}<p class="why" role="status">{known.fault}</p>{:else if expression && known.value !== null}<div class="row value" role="status"><pre>{block(known.value)}</pre><CopyText text={block(known.value)} label="Copy the value" /></div>{/if}
    {#each known.notes as note (note)}<p class="dim">{note}</p>{/each}
    <Button size="small" kind="tertiary" href="/workflows/{encodeURIComponent(run.workflow)}?run={run.id}&from={number}">Continue from here with the draft</Button>
  {/if}
</section>

<style>
  section {
    padding: 0.75rem;
    display: grid;
    grid-template-columns: minmax(0, 1fr);
    gap: 0.375rem;
    font-size: 0.8125rem;
  }

  .head {
    justify-content: space-between;
  }

  .link:disabled {
    color: var(--cds-disabled-02);
  }

  summary {
    cursor: pointer;
    min-height: 1.5rem;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }

  pre {
    max-height: 14rem;
    overflow: auto;
    white-space: pre-wrap;
    overflow-wrap: anywhere;
    font-size: 0.75rem;
    line-height: 1.125rem;
    background: var(--cds-field-01);
    padding: 0.375rem;
    min-width: 0;
  }

  .value pre {
    flex: 1;
  }

  input {
    flex: 1;
    min-width: 0;
  }

  .why {
    color: var(--cds-text-error);
  }
</style>
