<script lang="ts">
  /** Tables whose changed rows begin jobs, and how far behind that is. */
  import { SkeletonText } from 'carbon-components-svelte';
  import type { Watch, Watches } from '../api/types';
  import { Watched } from '../lib/api.svelte';
  import { ago, time, took } from '../lib/show';
  import CopyText from '../parts/CopyText.svelte';
  import Trouble from '../parts/Trouble.svelte';

  const listed = new Watched<Watches>(() => '/watches', 2000);
  const missing = (watch: Watch) => (watch.installed ? watch.of.filter((of) => !watch.installed?.includes(of)) : []);
</script>

<svelte:head><title>Watched tables · Kanzlei</title></svelte:head>

<div class="page">
  <h1>Watched tables</h1>
  <p class="dim">Rows that change begin jobs where an entry says <code>change: TABLE</code>. <a href="/handbook/changes">In the handbook</a></p>
  {#if listed.error}<Trouble error={listed.error} />{/if}
  {#if listed.value?.watches.length}
    <div class="panel wide">
      <table class="table" aria-label="Watched tables">
        <thead><tr><th>Table</th><th>Changes</th><th>Workflows</th><th class="number">Waiting</th><th>Oldest</th><th class="number">Accepted</th><th class="number">Jobs</th><th>Last</th></tr></thead>
        <tbody>
          {#each listed.value.watches as watch (`${watch.database}.${watch.table}`)}
            <tr>
              <td><strong>{watch.table}</strong><br /><span class="dim">in {watch.database}</span></td>
              <td>
                {watch.of.join(', ')}
                {#if watch.trouble}<br /><span class="bad">{watch.trouble}</span>
                {:else if missing(watch).length}<br /><span class="bad">the trigger for {missing(watch).join(', ')} is missing or differs; deploy a workflow again</span>{/if}
              </td>
              <td>{#each watch.workflows as one, index (one)}{index ? ', ' : ''}<a href="/workflows/{one}">{one}</a>{/each}</td>
              <td class="number">{watch.backlog ?? '?'}</td>
              <td>{watch.lag_us ? took(watch.lag_us) : ''}</td>
              <td class="number">{watch.accepted}</td>
              <td class="number">{watch.jobs}{#if watch.unfit}<br /><a href="/runs?state=refused">{watch.unfit} unfit</a>{/if}</td>
              <td>{#if watch.last}<span title={time(watch.last)}>{ago(watch.last)}</span><br /><span class="dim">by {watch.process}</span>{:else}<span class="dim">none yet</span>{/if}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
    <p class="row dim">The same in a terminal: <CopyText text="kanzlei watches" label="Copy the line" /></p>
  {:else if listed.value}
    <div class="panel empty">
      <p>No table is watched. A workflow watches one with the entry <code>change: bill</code> and <code>database: harbour</code>; a deploy makes the triggers.</p>
    </div>
  {:else if !listed.error}
    <div class="panel empty"><SkeletonText paragraph lines={3} /></div>
  {/if}
</div>

<style>
  .empty {
    padding: 0.75rem;
    margin: 0.75rem 0;
    font-size: 0.875rem;
  }

  .number {
    text-align: right;
  }

  .bad {
    color: var(--cds-text-error);
  }
</style>
