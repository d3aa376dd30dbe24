<script lang="ts">
  import { Button, Select, SelectItem, SkeletonText } from 'carbon-components-svelte';
  import type { RefusalPage, RunPage, Workflows } from '../api/types';
  import { Watched } from '../lib/api.svelte';
  import { router } from '../lib/router.svelte';
  import { count } from '../lib/show';
  import RefusalTable from '../parts/RefusalTable.svelte';
  import RunTable from '../parts/RunTable.svelte';
  import Trouble from '../parts/Trouble.svelte';

  const workflow = $derived(router.query.get('workflow') ?? '');
  const state = $derived(router.query.get('state') ?? '');
  const before = $derived(router.query.get('before') ?? '');

  function address(change: Record<string, string>): string {
    const query = new URLSearchParams();
    for (const [key, value] of Object.entries({ workflow, state, before, ...change })) if (value) query.set(key, value);
    const text = query.toString();
    return text ? `?${text}` : '';
  }

  /** Requests that never became a run stand beside the states of those that did. */
  const refused = $derived(state === 'refused');
  const listed = new Watched<(RunPage & { refusals?: undefined }) | (RefusalPage & { runs?: undefined })>(
    () => (refused ? `/refusals${address({ state: '' })}` : `/runs${address({})}`),
    3000,
  );
  const shown = $derived((refused ? listed.value?.refusals : listed.value?.runs) ?? []);
  const workflows = new Watched<Workflows>(() => '/workflows', undefined);
</script>

<svelte:head><title>Runs · Kanzlei</title></svelte:head>

<div class="page">
  <h1>Runs</h1>
  <div class="filters">
    <Select
      labelText="Workflow"
      size="sm"
      selected={workflow}
      on:update={(event) => router.go(`/runs${address({ workflow: String(event.detail ?? ''), before: '' })}`)}
    >
      <SelectItem value="" text="all" />
      {#each workflows.value?.workflows ?? [] as line (line.name)}
        <SelectItem value={line.name} text={line.name} />
      {/each}
    </Select>
    <Select
      labelText="State"
      size="sm"
      selected={state}
      on:update={(event) => router.go(`/runs${address({ state: String(event.detail ?? ''), before: '' })}`)}
    >
      <SelectItem value="" text="all" />
      <SelectItem value="succeeded" text="succeeded" />
      <SelectItem value="rejected" text="rejected" />
      <SelectItem value="failed" text="failed" />
      <SelectItem value="cancelled" text="cancelled" />
      <SelectItem value="refused" text="refused before a run" />
    </Select>
    {#if listed.value && listed.value.dropped > 0}
      <p class="dim">{#if refused}{count(listed.value.dropped)} more refusals were counted only.{:else}Details of {count(listed.value.dropped)} runs were dropped under load; every run is counted.{/if}</p>
    {/if}
  </div>
  {#if listed.error}<Trouble error={listed.error} />{/if}
  {#if listed.value && shown.length > 0}
    {#if refused}<RefusalTable refusals={listed.value.refusals ?? []} />{:else}<RunTable runs={listed.value.runs ?? []} />{/if}
    <div class="pages">
      {#if before}<Button kind="ghost" size="small" href="/runs{address({ before: '' })}">Newest</Button>{/if}
      {#if listed.value.next_before}
        <Button kind="ghost" size="small" href="/runs{address({ before: listed.value.next_before })}">Older</Button>
      {/if}
    </div>
  {:else if listed.value}
    <div class="panel empty">
      {#if refused}
        No request was refused. <a href="/runs">Show all runs</a>
      {:else if workflow || state}
        No run fits. <a href="/runs">Show all runs</a>
      {:else}
        <p>No runs yet. Call an endpoint, or:</p>
        <pre>kanzlei call NAME key=value …</pre>
      {/if}
    </div>
  {:else if !listed.error}
    <div class="panel empty"><SkeletonText paragraph lines={8} /></div>
  {/if}
</div>

<style>
  .filters {
    display: flex;
    gap: 1rem;
    align-items: end;
    margin: 1rem 0;
  }

  .filters :global(.bx--form-item) {
    flex: 0 0 13rem;
  }

  .filters p {
    font-size: 0.8125rem;
    padding-bottom: 0.5rem;
  }

  .empty {
    padding: 1.5rem;
  }

  .pages {
    display: flex;
    justify-content: flex-end;
    margin-top: 0.5rem;
  }
</style>
