<script lang="ts">
  import { CopyButton } from 'carbon-components-svelte';
  import type { RunLine } from '../api/types';
  import { router } from '../lib/router.svelte';
  import { ago, time, took } from '../lib/show';
  import RunState from './RunState.svelte';

  let { runs, workflow = true }: { runs: RunLine[]; workflow?: boolean } = $props();
</script>

<div class="panel">
  <table class="table">
    <thead>
      <tr>
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
          <td title={time(run.started)}><a class="quiet" href="/runs/{run.id}">{ago(run.started)}</a></td>
          {#if workflow}<td><a href="/workflows/{run.workflow}">{run.workflow}</a></td>{/if}
          <td><RunState state={run.state} /></td>
          <td class="mono">{run.status ?? ''}</td>
          <td>{took(run.duration_us)}</td>
          <td>
            <!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_static_element_interactions -->
            <span class="row" onclick={(event) => event.stopPropagation()}>
              <a class="mono quiet" href="/runs/{run.id}">…{run.id.slice(-12)}</a>
              <CopyButton text={run.id} iconDescription="Copy id" feedback="Copied" />
            </span>
          </td>
          <td class="why" title={run.failure ?? ''}>{run.failure ?? ''}</td>
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

  .why {
    max-width: 22rem;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
</style>
