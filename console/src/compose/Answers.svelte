<script lang="ts">
  /** How a trial answers what the draft asks: service by service, and by stubs of the author. */
  import type { Answering, Asked } from './trying';

  interface Props {
    asked: Asked[];
    how: Record<string, Answering>;
    stubs: string;
    /** Whether the input is that of a past run, which can answer. */
    run: boolean;
  }
  let { asked, how = $bindable(), stubs = $bindable(), run }: Props = $props();
</script>

<div class="panel answers">
  <div class="rows">
    {#each asked as one (one.name)}
      <label for="how-{one.name}" class="mono">{one.name}</label>
      <select id="how-{one.name}" class="control" value={how[one.name] ?? 'usual'} onchange={(event) => (how = { ...how, [one.name]: event.currentTarget.value as Answering })}>
        <option value="usual">read for real, write simulated</option>
        <option value="real">real</option>
        <option value="simulated">simulated</option>
        {#if one.recorded}<option value="recorded" disabled={!run}>as the run was answered{run ? '' : ' (choose a run)'}</option>{/if}
      </select>
      <span class="dim">{one.effects.length > 1 ? `${one.effects.length} operations` : ''}</span>
    {:else}
      <p class="dim">The draft asks nothing of others.</p>
    {/each}
  </div>
  <label for="try-stubs">Stubs, which answer first</label>
  <textarea id="try-stubs" class="control mono" rows="3" bind:value={stubs} spellcheck="false" placeholder={'registry.getVessel: {status: 404}'}></textarea>
</div>

<style>
  .answers {
    padding: 0.5rem 0.75rem 0.75rem;
    display: grid;
    gap: 0.375rem;
    font-size: 0.8125rem;
  }

  .rows {
    display: grid;
    grid-template-columns: max-content minmax(0, 18rem) 1fr;
    gap: 0.25rem 0.75rem;
    align-items: center;
  }
</style>
