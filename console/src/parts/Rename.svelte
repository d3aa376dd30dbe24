<script lang="ts">
  /** Gives a live workflow another name, in one deploy with all that names it. */
  import { Button } from 'carbon-components-svelte';
  import type { Renamed } from '../api/types';
  import { Refused, session } from '../lib/api.svelte';
  import { router } from '../lib/router.svelte';
  import Trouble from './Trouble.svelte';

  let { workflow }: { workflow: string } = $props();
  let to = $state('');
  let preview = $state.raw<Renamed | undefined>(undefined);
  let error = $state.raw<Refused | undefined>(undefined);

  async function ask(looking: boolean) {
    error = undefined;
    try {
      const renamed = await session.ask<Renamed>('POST', `/workflows/${encodeURIComponent(workflow)}/rename`, { to, preview: looking });
      if (looking) preview = renamed;
      else router.go(`/workflows/${encodeURIComponent(renamed.to)}/history`);
    } catch (refused) {
      preview = undefined;
      error = refused instanceof Refused ? refused : new Refused(0, 'It failed', String(refused));
    }
  }

  const others = $derived(preview?.deployed.filter((one) => one.name !== preview?.to && !one.unchanged) ?? []);
</script>

<section class="panel" aria-label="Rename">
  <form class="row" onsubmit={(event) => { event.preventDefault(); void ask(true); }}>
    <label for="rename-to">Rename to</label>
    <input id="rename-to" class="control mono" bind:value={to} pattern="[a-z][a-z0-9\-]*" required autocomplete="off" oninput={() => (preview = undefined)} />
    <Button size="small" kind="tertiary" type="submit">Look what changes</Button>
  </form>
  {#if error}<Trouble {error} />{/if}
  {#if preview}
    <p>
      Addresses, what it remembers, timetables, statistics and revisions stay with it; past runs are shown under the new name.
      {others.length ? `Also changed: ${others.map((one) => `${one.kind} ${one.name}`).join(', ')}.` : 'No other document names it.'}
      {preview.drafts.length ? `Drafts that still have the old name: ${preview.drafts.join(', ')}.` : ''}
    </p>
    <div><Button size="small" on:click={() => void ask(false)}>Rename {preview.from} to {preview.to}</Button></div>
  {/if}
</section>

<style>
  section {
    margin-top: 0.75rem;
    padding: 0.5rem 0.75rem;
    font-size: 0.8125rem;
    display: grid;
    gap: 0.5rem;
  }

  form {
    flex-wrap: wrap;
  }
</style>
