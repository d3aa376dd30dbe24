<script lang="ts">
  /** Deliveries as lines. */
  import type { DeliveryLine } from '../api/types';
  import { ago, time } from '../lib/show';
  import CopyText from './CopyText.svelte';

  let { deliveries }: { deliveries: DeliveryLine[] } = $props();

  function why(one: DeliveryLine): string {
    const first = one.problem?.errors?.[0];
    return first ? `${first.pointer} ${first.detail ?? ''}` : (one.problem?.detail ?? one.problem?.title ?? '');
  }
</script>

<div class="panel wide">
  <table class="table" aria-label="Deliveries">
    <thead><tr><th>Arrived</th><th>State</th><th>Entry</th><th>Key</th><th>Proof</th><th>Delivery</th><th>Became</th></tr></thead>
    <tbody>
      {#each deliveries as one (one.id)}
        <tr>
          <td title={time(one.received)}>{ago(one.received)}</td>
          <td class="state {one.state}">{one.state}</td>
          <td><a href="/workflows/{one.workflow}">{one.entry}</a></td>
          <td class="mono clip key" title={one.key ?? ''}>{one.key ?? ''}</td>
          <td class="clip key" title={one.proof}>{one.proof}</td>
          <td><span class="row"><a class="mono" href="/deliveries/{one.id}">…{one.id.slice(-12)}</a><CopyText text={one.id} label="Copy the id of the delivery …{one.id.slice(-12)}" /></span></td>
          <td class="clip" title={why(one)}>
            {#if one.run}<a href="/{one.as_job ? 'jobs' : 'runs'}/{one.run}">{one.as_job ? 'job' : 'run'} …{one.run.slice(-12)}</a>{one.processed > 1 ? ` (${one.processed} times)` : ''}
            {:else if one.first}<a href="/deliveries/{one.first}">like …{one.first.slice(-12)}</a>
            {:else}<span class="dim">{why(one)}</span>{/if}
          </td>
        </tr>
      {/each}
    </tbody>
  </table>
</div>

<style>
  .wide {
    overflow-x: auto;
  }

  td,
  th {
    white-space: nowrap;
  }

  .clip {
    max-width: 18rem;
    overflow: hidden;
    text-overflow: ellipsis;
  }

  .key {
    max-width: 9rem;
  }

  .unfit {
    color: var(--cds-text-error);
  }

  .repeated {
    color: var(--cds-text-02);
  }
</style>
