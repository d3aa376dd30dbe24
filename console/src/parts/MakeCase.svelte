<script lang="ts">
  /** Makes a case of a run, a trial or a delivery: it is added to the draft of the workflow's cases. */
  import type { AddedCase } from '../api/types';
  import { Refused, session } from '../lib/api.svelte';

  let { of, id, workflow }: { of: 'runs' | 'trials' | 'deliveries'; id: string; workflow: string } = $props();
  let naming = $state(false);
  let name = $state('');
  let added = $state.raw<AddedCase | undefined>(undefined);
  let why = $state('');

  $effect(() => {
    void id;
    naming = false;
    added = undefined;
  });

  async function add() {
    why = '';
    try {
      added = await session.ask<AddedCase>('POST', `/${of}/${encodeURIComponent(id)}/case`, name.trim() ? { name: name.trim() } : {});
      naming = false;
    } catch (refused) {
      why = refused instanceof Refused ? refused.message : String(refused);
    }
  }
</script>

<span class="make">
  {#if added}
    <span role="status">It is the case <a href="/workflows/{encodeURIComponent(workflow)}/cases">{added.name}</a> now.{#each added.notes as note (note)} <span class="dim">{note}.</span>{/each}</span>
  {:else if naming}
    <form onsubmit={(event) => { event.preventDefault(); void add(); }}>
      <!-- svelte-ignore a11y_autofocus -->
      <input class="control" aria-label="Name of the case" placeholder="What it shows" autofocus bind:value={name} onkeydown={(event) => { if (event.key === 'Escape') naming = false; }} />
      <button type="submit" class="link">Add it</button>
      <button type="button" class="link" onclick={() => (naming = false)}>Cancel</button>
    </form>
  {:else}
    <button type="button" class="link" onclick={() => (naming = true)}>Make it a case</button>
  {/if}
  {#if why}<span class="why" role="alert">{why}</span>{/if}
</span>

<style>
  form {
    display: inline-flex;
    gap: 0.5rem;
    align-items: center;
  }

  .why {
    color: var(--cds-text-error);
  }
</style>
