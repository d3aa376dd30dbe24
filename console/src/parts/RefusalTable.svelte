<script lang="ts">
  import type { Refusal } from '../api/types';
  import { ago, clock } from '../lib/show';
  import CopyText from './CopyText.svelte';

  let { refusals }: { refusals: Refusal[] } = $props();
  let open = $state('');

  function why(refusal: Refusal): string {
    const first = refusal.problem.errors?.[0];
    return first ? `${refusal.problem.title}: ${first.pointer} ${first.detail ?? ''}` : [refusal.problem.title, refusal.problem.detail].filter(Boolean).join(': ');
  }
</script>

<div class="panel">
  <table class="table">
    <thead><tr><th>At</th><th>Status</th><th>Entry</th><th>Caller</th><th>Request</th><th>Why</th></tr></thead>
    <tbody>
      {#each refusals as refusal (refusal.id)}
        <tr>
          <td title={clock(refusal.at)}>{ago(refusal.at)}</td>
          <td>{refusal.status}</td>
          <td>{#if refusal.workflow}<a href="/workflows/{refusal.workflow}">{refusal.entry}</a>{:else}{refusal.entry ?? ''}{/if}</td>
          <td>{refusal.caller ?? ''}</td>
          <td title={refusal.request_id}>
            <span class="row"><code>…{refusal.request_id.slice(-12)}</code><CopyText text={refusal.request_id} label="Copy the request id …{refusal.request_id.slice(-12)}" /></span>
          </td>
          <td class="why">
            <button type="button" aria-expanded={open === refusal.id} onclick={() => (open = open === refusal.id ? '' : refusal.id)}>{why(refusal)}</button>
          </td>
        </tr>
        {#if open === refusal.id}
          <tr>
            <td colspan="6">
              <pre>{JSON.stringify(refusal.problem, null, 2)}</pre>
              {#if refusal.body.text !== null}
                <p class="dim small">{refusal.body.media ?? 'body'}, {refusal.body.size} bytes</p>
                <pre>{refusal.body.text}</pre>
              {:else if refusal.body.size}
                <p class="dim small">{refusal.body.media ?? 'body'}, {refusal.body.size} bytes, SHA-256 <code>{refusal.body.digest}</code></p>
              {/if}
            </td>
          </tr>
        {/if}
      {/each}
    </tbody>
  </table>
</div>

<style>
  td,
  th {
    white-space: nowrap;
    padding-left: 0.75rem;
    padding-right: 0.5rem;
  }

  .why {
    max-width: 24rem;
    overflow: hidden;
  }

  button {
    all: unset;
    cursor: pointer;
    display: block;
    overflow: hidden;
    text-overflow: ellipsis;
    text-decoration: underline dotted;
  }

  button:focus-visible {
    outline: 2px solid var(--cds-focus);
  }

  pre {
    white-space: pre-wrap;
    padding: 0.5rem 0;
  }
</style>
