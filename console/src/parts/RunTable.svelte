<script lang="ts">
  import type { RunLine } from '../api/types';
  import { router } from '../lib/router.svelte';
  import { ago, time, took } from '../lib/show';
  import CopyText from './CopyText.svelte';
  import RunState from './RunState.svelte';

  let { runs, workflow = true }: { runs: RunLine[]; workflow?: boolean } = $props();
  /** Two runs of one workflow can be compared. */
  let chosen: string[] = $state([]);
  const both = $derived(chosen.map((id) => runs.find((run) => run.id === id)).filter((run) => run !== undefined));
  const comparable = $derived(both.length === 2 && both[0]?.workflow === both[1]?.workflow);
  /** The earlier one first: ids are in the order of time. */
  const pair = $derived([...chosen].sort());
</script>

{#if chosen.length}
  <p class="choice" role="status">
    {#if comparable}<a href="/runs/{pair[0]}?with={pair[1]}">Compare these two runs</a>{:else if both.length === 2}They are of two workflows.{:else if chosen.length > 2}Choose two.{:else}Choose another one to compare with.{/if}
    <button type="button" class="link" onclick={() => (chosen = [])}>None</button>
  </p>
{/if}
<div class="panel">
  <table class="table">
    <thead>
      <tr>
        <th><span class="sr">Compare</span></th>
        <th>Started</th>
        {#if workflow}<th>Workflow</th>{/if}
        <th>State</th>
        <th>Status</th>
        <th>Took</th>
        <th>Run</th>
        <th>Why it failed</th>
      </tr>
    </thead>
    <tbody>
      {#each runs as run (run.id)}
        <tr onclick={() => router.go(`/runs/${run.id}`)}>
          <!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_noninteractive_element_interactions -->
          <td class="check" onclick={(event) => event.stopPropagation()}><label><input type="checkbox" value={run.id} bind:group={chosen} aria-label="Compare the run of {time(run.started)}" /></label></td>
          <td title={time(run.started)}><a class="quiet" href="/runs/{run.id}">{ago(run.started)}</a></td>
          {#if workflow}<td><a href="/workflows/{run.workflow}">{run.workflow}</a></td>{/if}
          <td><RunState state={run.state} /></td>
          <td class="mono">{run.status ?? ''}</td>
          <td>{took(run.duration_us)}</td>
          <td>
            <!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_static_element_interactions -->
            <span class="row" onclick={(event) => event.stopPropagation()}>
              <a class="mono quiet" href="/runs/{run.id}">…{run.id.slice(-12)}</a>
              <CopyText text={run.id} label="Copy the id …{run.id.slice(-12)}" />
            </span>
          </td>
          <td class="why" title={run.failure ?? ''}>
            <!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_static_element_interactions -->
            {#if run.kind && run.kind !== 'fail'}<span onclick={(event) => event.stopPropagation()}><a class="quiet kind" href="/runs?kind={run.kind}" title="Runs that failed with {run.kind}">{run.kind}</a></span>{/if}
            {run.failure ?? ''}
          </td>
        </tr>
      {/each}
    </tbody>
  </table>
</div>

<style>
  tbody tr {
    cursor: pointer;
  }

  td,
  th {
    white-space: nowrap;
    padding-left: 0.75rem;
    padding-right: 0.5rem;
  }

  .kind {
    font-weight: 600;
    padding-right: 0.25rem;
  }

  .choice {
    font-size: 0.8125rem;
    padding-bottom: 0.375rem;
  }

  .check label {
    display: grid;
    place-items: center;
    width: 1.5rem;
    height: 1.5rem;
    cursor: pointer;
  }

  .why {
    max-width: 22rem;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
</style>
