<script lang="ts">
  /** What the steps of a workflow did over a span: how often they ran and failed, and how long they took. */
  import { ContentSwitcher, SkeletonText, Switch } from 'carbon-components-svelte';
  import type { Statistics, StepStatistics } from '../api/types';
  import { Watched } from '../lib/api.svelte';
  import { count, took } from '../lib/show';
  import Trouble from './Trouble.svelte';

  let { workflow, revision }: { workflow: string; revision: number } = $props();
  const SPANS = [
    { text: '1 hour', since: '1h' },
    { text: '24 hours', since: '24h' },
    { text: '7 days', since: '7 days' },
  ];
  let chosen = $state(1);
  let other: number | undefined = $state(undefined);
  const query = $derived(`since=${encodeURIComponent(SPANS[chosen]?.since ?? '24h')}&revision=${other ?? revision}`);
  const shown = new Watched<Statistics>(() => `/workflows/${encodeURIComponent(workflow)}/statistics?${query}`, 10_000);

  const rows = $derived.by(() => {
    const found = shown.value;
    if (!found) return [];
    const whole: StepStatistics = { number: '', kind: '', title: 'The run', depth: 0, counted: found.runs };
    return [whole, ...found.steps];
  });
</script>

<div class="row head">
  <div class="spans">
    <ContentSwitcher size="sm" bind:selectedIndex={chosen}>
      {#each SPANS as span (span.since)}<Switch text={span.text} />{/each}
    </ContentSwitcher>
  </div>
  {#if shown.value}
    <span class="dim">revision {shown.value.revision}</span>
    {#if other}<button class="link" onclick={() => (other = undefined)}>live revision</button>{/if}
    {#each shown.value.others as one (one.revision)}
      <button class="link" onclick={() => (other = one.revision)}>{count(one.runs)} of revision {one.revision}</button>
    {/each}
  {/if}
</div>
{#if shown.error}
  <Trouble error={shown.error} />
{:else if shown.value && shown.value.runs.runs === 0}
  <div class="panel empty">No run of this revision has ended in this span.</div>
{:else if shown.value}
  <div class="panel">
    <table class="table">
      <thead>
        <tr><th class="at">§</th><th>Step</th><th class="number">Runs</th><th class="number">Failed</th><th class="number">Half within</th><th class="number">95 of 100 within</th></tr>
      </thead>
      <tbody>
        {#each rows as row (row.number)}
          <tr>
            <td class="mono">{row.number}</td>
            <td style:padding-left="{0.75 + row.depth}rem"><strong>{row.kind}</strong> {row.title}</td>
            <td class="number">{count(row.counted.runs)}</td>
            <td class="number" class:failed={row.counted.failures > 0}>{count(row.counted.failures)}</td>
            <td class="number">{took(row.counted.p50_us)}</td>
            <td class="number">{took(row.counted.p95_us)}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
{:else}
  <div class="panel empty"><SkeletonText paragraph lines={6} /></div>
{/if}

<style>
  .head {
    margin-bottom: 0.5rem;
    font-size: 0.8125rem;
  }

  .spans {
    width: 22rem;
  }

  .at {
    width: 5rem;
  }

  th,
  td {
    padding-left: 0.75rem;
  }

  .number {
    text-align: right;
    font-variant-numeric: tabular-nums;
  }

  .failed {
    color: var(--cds-support-01);
  }

  .empty {
    padding: 1.5rem;
  }
</style>
