<script lang="ts">
  import { Button, Search, Select, SelectItem, SkeletonText } from 'carbon-components-svelte';
  import type { RefusalPage, RunPage, Workflows } from '../api/types';
  import { Watched } from '../lib/api.svelte';
  import { router } from '../lib/router.svelte';
  import { count, size, time } from '../lib/show';
  import RefusalTable from '../parts/RefusalTable.svelte';
  import RunTable from '../parts/RunTable.svelte';
  import Trouble from '../parts/Trouble.svelte';

  const workflow = $derived(router.query.get('workflow') ?? '');
  const chosen = $derived(router.query.get('state') ?? '');
  const status = $derived(router.query.get('status') ?? '');
  const since = $derived(router.query.get('since') ?? '');
  const text = $derived(router.query.get('text') ?? '');
  const kind = $derived(router.query.get('kind') ?? '');
  const caller = $derived(router.query.get('caller') ?? '');
  const before = $derived(router.query.get('before') ?? '');
  let typed = $state(router.query.get('text') ?? '');

  function address(change: Record<string, string>): string {
    const query = new URLSearchParams();
    for (const [key, value] of Object.entries({ workflow, state: chosen, status, since, text, kind, caller, before, ...change })) if (value) query.set(key, value);
    const written = query.toString();
    return written ? `?${written}` : '';
  }

  function go(change: Record<string, string>): void {
    router.filters({ ...change, before: '' });
  }

  /** Requests that never became a run stand beside the states of those that did. */
  const refused = $derived(chosen === 'refused');
  const listed = new Watched<(RunPage & { refusals?: undefined }) | (RefusalPage & { runs?: undefined })>(
    () => (refused ? `/refusals${address({ state: '', since: '', text: '', kind: '', caller: '', status: status.endsWith('xx') ? '' : status })}` : `/runs${address({})}`),
    3000,
  );
  const shown = $derived((refused ? listed.value?.refusals : listed.value?.runs) ?? []);
  const searchedTo = $derived(refused ? undefined : listed.value && 'searched_to' in listed.value ? listed.value.searched_to : undefined);
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
      on:update={(event) => go({ workflow: String(event.detail ?? '') })}
    >
      <SelectItem value="" text="all" />
      {#each workflows.value?.workflows ?? [] as line (line.name)}
        <SelectItem value={line.name} text={line.name} />
      {/each}
    </Select>
    <Select
      labelText="State"
      size="sm"
      selected={chosen}
      on:update={(event) => go({ state: String(event.detail ?? '') })}
    >
      <SelectItem value="" text="all" />
      <SelectItem value="succeeded" text="succeeded" />
      <SelectItem value="rejected" text="rejected" />
      <SelectItem value="failed" text="failed" />
      <SelectItem value="cancelled" text="cancelled" />
      <SelectItem value="refused" text="refused before a run" />
    </Select>
    {#if !refused}
      <Select
        labelText="Status"
        size="sm"
        selected={status}
        on:update={(event) => go({ status: String(event.detail ?? '') })}
      >
        <SelectItem value="" text="all" />
        {#each ['2xx', '3xx', '4xx', '5xx'] as each (each)}<SelectItem value={each} text={each} />{/each}
        {#if status && !status.endsWith('xx')}<SelectItem value={status} text={status} />{/if}
      </Select>
      <Select labelText="Began" size="sm" selected={since} on:update={(event) => go({ since: String(event.detail ?? '') })}>
        <SelectItem value="" text="at any time" />
        <SelectItem value="15m" text="in the last 15 minutes" />
        <SelectItem value="2h" text="in the last 2 hours" />
        <SelectItem value="24h" text="in the last 24 hours" />
        <SelectItem value="7d" text="in the last 7 days" />
        {#if since && !['15m', '2h', '24h', '7d'].includes(since)}<SelectItem value={since} text={since} />{/if}
      </Select>
      <form
        onsubmit={(event) => {
          event.preventDefault();
          go({ text: typed });
        }}
      >
        <Search size="sm" labelText="In what was sent and answered" placeholder="in input or answer …" bind:value={typed} on:clear={() => go({ text: '' })} />
      </form>
    {/if}
    {#if kind && !refused}<p class="narrowed">Failed with <b>{kind}</b> <button type="button" class="link" onclick={() => go({ kind: '' })}>Remove</button></p>{/if}
    {#if caller && !refused}<p class="narrowed">Called by <b>{caller}</b> <button type="button" class="link" onclick={() => go({ caller: '' })}>Remove</button></p>{/if}
    {#if listed.value && listed.value.dropped > 0}
      <p class="dim">{#if refused}{count(listed.value.dropped)} more refusals were counted only.{:else}{count(listed.value.dropped)} more runs were dropped under load; every run is counted.{/if}</p>
    {/if}
  </div>
  {#if listed.error}<Trouble error={listed.error} />{/if}
  {#if listed.value && shown.length > 0}
    {#if refused}<RefusalTable refusals={listed.value.refusals ?? []} />{:else}<RunTable runs={listed.value.runs ?? []} />{/if}
    <div class="pages">
      {#if 'kept' in listed.value && listed.value.kept}<span class="dim">{count(listed.value.kept)} runs are kept, {size(listed.value.bytes)} of values.</span>{/if}
      {#if before}<Button kind="ghost" size="small" href="/runs{address({ before: '' })}">Newest</Button>{/if}
      {#if listed.value.next_before}
        {#if searchedTo}<span class="dim">Searched back to {time(searchedTo)}.</span>{/if}
        <Button kind="ghost" size="small" href="/runs{address({ before: listed.value.next_before })}">
          {searchedTo ? 'Search older runs' : 'Older'}
        </Button>
      {/if}
    </div>
  {:else if listed.value}
    <div class="panel empty">
      {#if refused}
        No request was refused. <a href="/runs">Show all runs</a>
      {:else if searchedTo}
        No run since {time(searchedTo)} fits.
        <a href="/runs{address({ before: listed.value.next_before ?? '' })}">Search older runs</a>
      {:else if workflow || chosen || status || since || text || kind || caller}
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
    flex-wrap: wrap;
    gap: 1rem;
    align-items: end;
    margin: 1rem 0;
  }

  .filters :global(.bx--form-item) {
    flex: 0 0 11rem;
  }

  .filters form {
    flex: 1 1 12rem;
  }

  .filters p {
    font-size: 0.8125rem;
    padding-bottom: 0.5rem;
  }

  .empty {
    padding: 1.5rem;
  }

  .narrowed {
    align-self: end;
    font-size: 0.8125rem;
  }

  .pages {
    display: flex;
    gap: 0.75rem;
    align-items: center;
    justify-content: flex-end;
    margin-top: 0.5rem;
  }
</style>
