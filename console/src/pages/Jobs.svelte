<script lang="ts">
  import { Button, Search, Select, SelectItem, SkeletonText, TextInput } from 'carbon-components-svelte';
  import type { Group, JobPage, Lanes, Workflows } from '../api/types';
  import { Watched } from '../lib/api.svelte';
  import { address, type Chosen, chosenIn, instant, selection, zoned } from '../lib/filters';
  import { STATES, waiting } from '../lib/jobs';
  import { router } from '../lib/router.svelte';
  import { count, time } from '../lib/show';
  import JobActions from '../parts/JobActions.svelte';
  import JobTable from '../parts/JobTable.svelte';
  import Trouble from '../parts/Trouble.svelte';

  const chosen = $derived(chosenIn(router.query));
  let selected: string[] = $state([]);
  let typed = $state(router.query.get('text') ?? '');
  let tag = $state(router.query.get('tag') ?? (router.query.has('tag_prefix') ? `${router.query.get('tag_prefix')}*` : ''));
  let round = $state(0);
  /** All that fit are meant, also those on other pages. */
  let everything = $state(false);

  function go(change: Partial<Chosen>) {
    selected = [];
    everything = false;
    router.filters({ before: '', ...change });
  }

  const listed = new Watched<JobPage>(() => {
    void round;
    return `/jobs${address(chosen)}`;
  }, 2000);
  const lanes = new Watched<Lanes>(() => '/lanes', 10_000);
  /** The lanes from which nothing is claimed. */
  const held = $derived(new Set((lanes.value?.lanes ?? []).filter((lane) => lane.held).map((lane) => lane.name)));
  const workflows = new Watched<Workflows>(() => '/workflows', undefined);
  const group = new Watched<Group | null>(() => (chosen.group ? `/groups/${chosen.group}` : '/lanes'), 2000);
  const filtered = $derived(Object.keys(selection(chosen)).length > 0);
  /** By more than the state: the counts are of all jobs and would mislead. */
  const narrowed = $derived(Object.keys(selection(chosen)).some((key) => key !== 'state'));
  const chosenJobs = $derived(listed.value?.jobs.filter((job) => selected.includes(job.id)) ?? []);
  const which = $derived(everything ? { select: selection(chosen) } : { ids: selected });
  $effect(() => {
    if (selected.length === 0) everything = false;
  });
</script>

<svelte:head><title>Jobs · Kanzlei</title></svelte:head>

<div class="page">
  <h1>Jobs</h1>
  <div class="counts" role="group" aria-label="State">
    <button class:current={!chosen.state} onclick={() => go({ state: '' })}>all</button>
    {#each STATES as state (state)}
      <button class:current={chosen.state === state} onclick={() => go({ state: chosen.state === state ? '' : state })}>
        {state}{#if !narrowed}{' '}<strong>{count(listed.value?.counts[state] ?? 0)}{listed.value?.counts[state] === listed.value?.counted_to ? '+' : ''}</strong>{/if}
      </button>
    {/each}
  </div>
  <div class="filters">
    <Select labelText="Workflow" size="sm" selected={chosen.workflow} on:update={(event) => go({ workflow: String(event.detail ?? '') })}>
      <SelectItem value="" text="all" />
      {#each workflows.value?.workflows ?? [] as line (line.name)}<SelectItem value={line.name} text={line.name} />{/each}
    </Select>
    <Select labelText="Lane" size="sm" selected={chosen.lane} on:update={(event) => go({ lane: String(event.detail ?? '') })}>
      <SelectItem value="" text="all" />
      {#each lanes.value?.lanes ?? [] as lane (lane.name)}<SelectItem value={lane.name} text={lane.name} />{/each}
    </Select>
    <form
      onsubmit={(event) => {
        event.preventDefault();
        go({ text: typed });
      }}
    >
      <Search size="sm" labelText="In the input" placeholder="in the input …" bind:value={typed} on:clear={() => go({ text: '' })} />
    </form>
    <form
      class="tag"
      onsubmit={(event) => {
        event.preventDefault();
        // A star at the end stands for any rest.
        go(tag.endsWith('*') ? { tag: '', tag_prefix: tag.slice(0, -1) } : { tag, tag_prefix: '' });
      }}
    >
      <TextInput size="sm" labelText="Tag" placeholder="hold-17, or hold-*" bind:value={tag} />
    </form>
    {#each [['due_from', 'Due from'], ['due_until', 'Due until']] as const as [key, label] (key)}
      <TextInput
        size="sm"
        type="datetime-local"
        labelText={label}
        value={zoned(chosen[key])}
        on:change={(event) => go({ [key]: instant(String(event.detail ?? '')) })}
      />
    {/each}
    {#each [['failure', 'Failed with', '503, timeout'], ['step', 'At step', '2.1'], ['caller', 'Caller', 'key or subject']] as const as [key, label, placeholder] (key)}
      <TextInput size="sm" labelText={label} {placeholder} value={chosen[key]} on:change={(event) => go({ [key]: String(event.detail ?? '').trim() })} />
    {/each}
    {#if filtered}<Button size="small" kind="ghost" href="/jobs">Show all</Button>{/if}
    {#if chosen.group}<Button size="small" kind="ghost" on:click={() => go({ group: '' })}>group …{chosen.group.slice(-12)} ✕</Button>{/if}
  </div>
  {#if chosen.group && group.value?.total}
    {@const g = group.value}
    <div class="panel group">
      <strong>{g.total - g.remaining} of {g.total}</strong>
      <span class="bar" title="{g.succeeded} succeeded, {g.rejected} rejected, {g.failed} failed, {g.cancelled} cancelled, {g.running} running">
        <i class="done" style="width: {(100 * g.succeeded) / g.total}%"></i><i class="failed" style="width: {(100 * (g.failed + g.rejected)) / g.total}%"></i><i
          class="cancelled"
          style="width: {(100 * g.cancelled) / g.total}%"
        ></i>
      </span>
      <span>{g.succeeded} succeeded · {g.rejected} rejected · {g.failed} failed · {g.cancelled} cancelled · {g.running} running · {g.remaining} remaining</span>
      {#if g.expected_end}<span class="dim">expected end {time(g.expected_end)}</span>{/if}
    </div>
  {/if}
  {#if listed.error}<Trouble error={listed.error} />{/if}
  {#if selected.length > 0}
    <div class="panel chosen">
      <span>{everything ? 'all that fit' : `${selected.length} selected`}</span>
      <JobActions {which} jobs={chosenJobs} ondone={() => (round += 1)} />
      {#if listed.value?.next_before && selected.length === listed.value.jobs.length}
        <span class="all">
          {#if everything}
            Jobs on other pages too. <button onclick={() => (everything = false)}>Only these {selected.length}</button>
          {:else}
            There are more on other pages. <button onclick={() => (everything = true)}>Choose all that fit</button>
          {/if}
        </span>
      {/if}
    </div>
  {/if}
  {#if listed.value && listed.value.jobs.length > 0}
    {#if held.size && listed.value.jobs.some((job) => waiting(job) && held.has(job.lane))}
      <p class="held" role="status">Held, so that nothing of them begins: {#each [...held] as lane, index (lane)}{index ? ', ' : ''}<a href="/lanes">{lane}</a>{/each}.</p>
    {/if}
    <JobTable jobs={listed.value.jobs} {held} bind:selected />
    <div class="pages">
      {#if chosen.before}<Button kind="ghost" size="small" href="/jobs{address(chosen, { before: '' })}">Newest</Button>{/if}
      {#if listed.value.next_before}
        {#if listed.value.searched_to}<span class="dim">Searched back to {time(listed.value.searched_to)}.</span>{/if}
        <Button kind="ghost" size="small" href="/jobs{address(chosen, { before: listed.value.next_before })}">
          {listed.value.searched_to ? 'Search older jobs' : 'Older'}
        </Button>
      {/if}
    </div>
  {:else if listed.value}
    <div class="panel empty">
      {#if listed.value.searched_to}
        No job accepted since {time(listed.value.searched_to)} fits.
        <a href="/jobs{address(chosen, { before: listed.value.next_before ?? '' })}">Search older jobs</a>
      {:else if filtered}
        No job fits. <a href="/jobs">Show all jobs</a>
      {:else}
        <p>No jobs yet. An endpoint with <code>answer: later</code>, an <code>enqueue</code> step or a timetable makes them:</p>
        <pre>curl -X POST -H 'Prefer: respond-async' …</pre>
      {/if}
    </div>
  {:else if !listed.error}
    <div class="panel empty"><SkeletonText paragraph lines={8} /></div>
  {/if}
</div>

<style>
  .counts {
    display: flex;
    flex-wrap: wrap;
    margin: 0.75rem 0;
    border-bottom: 1px solid var(--cds-ui-03);
  }

  .counts button {
    all: unset;
    cursor: pointer;
    padding: 0.5rem 0.875rem;
    font-size: 0.875rem;
    color: var(--cds-text-02);
    border-bottom: 2px solid transparent;
  }

  .counts button:hover {
    background: var(--cds-hover-ui);
  }

  .counts button:focus-visible {
    outline: 2px solid var(--cds-focus);
    outline-offset: -2px;
  }

  .counts button.current {
    color: var(--cds-text-01);
    border-bottom-color: var(--cds-interactive-04);
  }

  .counts strong {
    font-weight: 600;
    color: var(--cds-text-01);
  }

  .filters {
    display: flex;
    gap: 0.75rem;
    align-items: end;
    margin: 0.75rem 0 1rem;
    flex-wrap: wrap;
  }

  .filters :global(.bx--form-item) {
    flex: 0 0 9rem;
  }

  .filters form {
    width: 10.5rem;
  }

  .filters form.tag {
    width: 8rem;
  }

  /* Instants are as long as they are. */
  .filters :global(input[type='datetime-local']) {
    padding: 0 0.5rem;
    font-size: 0.75rem;
  }

  .held {
    font-size: 0.8125rem;
    padding-bottom: 0.375rem;
  }

  .group,
  .chosen {
    padding: 0.625rem 1rem;
    margin-bottom: 0.75rem;
    font-size: 0.875rem;
  }

  .group {
    display: flex;
    gap: 1rem;
    align-items: center;
    flex-wrap: wrap;
  }

  .chosen {
    display: grid;
    grid-template-columns: 6rem minmax(0, 1fr);
    align-items: center;
  }

  .all {
    grid-column: 2;
    padding-top: 0.5rem;
  }

  .all button {
    all: unset;
    cursor: pointer;
    color: var(--cds-link-01);
    text-decoration: underline;
  }

  .all button:focus-visible {
    outline: 2px solid var(--cds-focus);
  }

  .bar {
    display: flex;
    width: 16rem;
    height: 0.5rem;
    background: var(--cds-ui-03);
  }

  .bar i.done {
    background: var(--cds-support-02);
  }

  .bar i.failed {
    background: var(--cds-support-01);
  }

  .bar i.cancelled {
    background: var(--cds-ui-04);
  }

  .empty {
    padding: 1.5rem;
  }

  .pages {
    display: flex;
    justify-content: flex-end;
    align-items: center;
    margin-top: 0.5rem;
  }
</style>
