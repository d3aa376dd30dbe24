<script lang="ts">
  /** All workflows, live ones and drafts: found by words, sorted, those that fail first. */
  import { Button, SkeletonText } from 'carbon-components-svelte';
  import type { DraftLine, Drafts, WorkflowLine, Workflows } from '../api/types';
  import { Watched } from '../lib/api.svelte';
  import { router } from '../lib/router.svelte';
  import { ago, count, took } from '../lib/show';
  import CopyText from '../parts/CopyText.svelte';
  import RunState from '../parts/RunState.svelte';
  import Exporting from '../parts/Exporting.svelte';
  import Trouble from '../parts/Trouble.svelte';

  const listed = new Watched<Workflows>(() => '/workflows', 3000);
  const drafts = new Watched<Drafts>(() => '/drafts', 5000);
  const words = $derived(router.query.get('q') ?? '');
  const order = $derived(router.query.get('order') ?? 'failed');

  interface Row {
    name: string;
    about: string;
    live: WorkflowLine | undefined;
    draft: DraftLine | undefined;
  }

  const rows = $derived.by(() => {
    const of = (drafts.value?.drafts ?? []).filter((draft) => draft.kind === 'workflow');
    const live = listed.value?.workflows ?? [];
    const all: Row[] = live.map((one) => ({ name: one.name, about: one.about, live: one, draft: of.find((draft) => draft.name === one.name) }));
    for (const draft of of) if (!live.some((one) => one.name === draft.name)) all.push({ name: draft.name, about: '', live: undefined, draft });
    const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
    const text = (row: Row) => `${row.name} ${row.about} ${row.live?.tags?.join(' ') ?? ''} ${row.live?.endpoints.map((one) => `${one.method} ${one.host ?? ''}${one.path}`).join(' ') ?? ''}`.toLowerCase();
    const found = all.filter((row) => wanted.every((word) => text(row).includes(word)));
    const by: Record<string, (row: Row) => number> = {
      failed: (row) => (row.live?.day.failed ?? 0) * 1e6 + (row.draft && !row.live ? 1 : 0),
      runs: (row) => row.live?.day.runs ?? 0,
      changed: (row) => Date.parse(row.draft?.changed ?? row.live?.since ?? '') || 0,
    };
    const key = by[order];
    return found.sort((a, b) => (key ? key(b) - key(a) : 0) || a.name.localeCompare(b.name));
  });
  /** Drafts of services, lanes and settings. */
  const others = $derived((drafts.value?.drafts ?? []).filter((draft) => draft.kind !== 'workflow'));
  const empty = $derived(listed.value?.workflows.length === 0 && drafts.value?.drafts.length === 0);
</script>

<svelte:head><title>Workflows · Kanzlei</title></svelte:head>

<div class="page">
  <div class="row head">
    <h1>Workflows</h1>
    <div class="row tools">
      <input type="search" class="control" aria-label="Search workflows" placeholder="Search" value={words} oninput={(event) => router.filter('q', event.currentTarget.value)} />
      <select class="control" aria-label="Order" value={order} onchange={(event) => router.filter('order', event.currentTarget.value)}>
        <option value="failed">failed first</option>
        <option value="name">by name</option>
        <option value="runs">most runs first</option>
        <option value="changed">changed last first</option>
      </select>
      <a class="link" href="/examples">Examples</a>
      <a class="link" href="/import">Import</a>
      <Exporting label="Export all" />
      <Button size="small" href="/new">New workflow</Button>
    </div>
  </div>
  {#if listed.error}<Trouble error={listed.error} />{/if}
  {#if empty}
    <div class="panel empty">
      <h2>Begin with the first workflow</h2>
      <p>A workflow takes a request in, calls services, and answers; or it runs by the clock. Say what it is for, paste an example request, add steps, try it, and deploy it.</p>
      <Button href="/new">New workflow</Button>
      <p class="dim">From a terminal: <code>kanzlei deploy PATH</code></p>
    </div>
  {:else if listed.value}
    {#if !listed.value.counts_known}
      <p class="dim note">The database is unavailable: counts and last runs are not known now. Workflows are served all the same.</p>
    {/if}
    <div class="panel scroll">
      <table class="list" aria-label="Workflows">
        <thead><tr><th scope="col">Workflow</th><th scope="col">Entry</th><th scope="col">State</th><th scope="col">Last runs</th><th scope="col">Last 24 hours</th></tr></thead>
        <tbody>
          {#each rows as row (row.name)}
            <tr>
              <th scope="row"><a href="/workflows/{encodeURIComponent(row.name)}">{row.name}</a><span class="about dim" title={row.about}>{row.about}</span></th>
              <td>
                {#each row.live?.endpoints ?? [] as endpoint (endpoint.method + endpoint.url)}
                  <span class="entry"><span class="mono path" title={endpoint.url}>{endpoint.method} {endpoint.host ?? ''}{endpoint.path}</span><CopyText text={endpoint.curl} label="Copy a request of {row.name}" /></span>
                {:else}<span class="dim">{row.live ? 'no address' : ''}</span>{/each}
              </td>
              <td class="small">
                {#if row.live}<span>live · revision {row.live.revision}</span>{/if}
                {#if row.live?.hold}<span class="failed" title="{row.live.hold.reason} ({row.live.hold.by}, {ago(row.live.hold.since)})">held</span>{/if}
                {#if row.draft}<span class="draft" title="Saved {ago(row.draft.changed)} by {row.draft.operator}">draft {row.draft.state}</span>{/if}
              </td>
              <td>
                <span class="marks">
                  {#each row.live?.last_runs.slice(0, 8) ?? [] as run (run.id)}
                    <a href="/runs/{run.id}" aria-label="{run.status ?? run.state}, {ago(run.started)}" title="{run.status ?? run.state} · {took(run.duration_us)} · {ago(run.started)}"><RunState state={run.state} label={false} /></a>
                  {/each}
                </span>
              </td>
              <td class="small">
                {#if row.live}
                  {count(row.live.day.runs)} {row.live.day.runs === 1 ? 'run' : 'runs'}
                  {#if row.live.day.rejected > 0}· <a href="/runs?workflow={row.name}&state=rejected">{count(row.live.day.rejected)} rejected</a>{/if}
                  {#if row.live.day.failed > 0}· <a class="failed" href="/runs?workflow={row.name}&state=failed">{count(row.live.day.failed)} failed</a>{/if}
                  {#if row.live.day.mean_us !== null}· {took(row.live.day.mean_us)}{/if}
                  {#if row.live.day.dropped > 0}· {count(row.live.day.dropped)} without details{/if}
                {/if}
              </td>
            </tr>
          {:else}
            <tr><td colspan="5" class="dim">No workflow is called like this.</td></tr>
          {/each}
        </tbody>
      </table>
    </div>
    {#if others.length > 0}
      <h2 class="others">Other drafts</h2>
      <div class="panel scroll">
        <table class="list" aria-label="Other drafts"><tbody>
          {#each others as draft (draft.kind + draft.name)}
            <tr><th scope="row">{draft.kind} {draft.name}</th><td class="small">draft {draft.state}</td><td class="small dim">saved {ago(draft.changed)} by {draft.operator}</td></tr>
          {/each}
        </tbody></table>
      </div>
    {/if}
  {:else if !listed.error}
    <div class="panel empty"><SkeletonText paragraph lines={6} /></div>
  {/if}
</div>

<style>
  .head {
    justify-content: space-between;
    flex-wrap: wrap;
    padding-bottom: 0.5rem;
  }

  .tools .control {
    background: var(--cds-field-02);
  }

  .scroll {
    overflow-x: auto;
  }

  .list {
    width: 100%;
    border-collapse: collapse;
    font-size: 0.8125rem;
    line-height: 1.125rem;
  }

  .list th,
  .list td {
    text-align: left;
    font-weight: 400;
    padding: 0.3125rem 0.75rem;
    border-bottom: 1px solid var(--cds-ui-03);
    vertical-align: middle;
  }

  .list thead th {
    font-size: 0.75rem;
    color: var(--cds-text-02);
    font-weight: 600;
  }

  .list tbody th {
    max-width: 18rem;
  }

  .list tbody th a {
    font-weight: 600;
  }

  .about {
    display: block;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    font-size: 0.75rem;
  }

  .entry {
    display: flex;
    align-items: center;
    gap: 0.25rem;
  }

  .path {
    font-size: 0.75rem;
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
    max-width: 19rem;
  }

  .small {
    font-size: 0.75rem;
  }

  .small span {
    display: block;
  }

  .draft {
    color: var(--draft-text);
  }

  .marks {
    display: flex;
    gap: 0.125rem;
    white-space: nowrap;
  }

  .marks a {
    min-width: 1.5rem;
    min-height: 1.5rem;
    display: inline-flex;
    align-items: center;
    justify-content: center;
  }

  .failed {
    color: var(--cds-text-error);
  }

  .others {
    font-size: 1rem;
    padding: 1rem 0 0.5rem;
  }

  .empty {
    padding: 1.5rem;
    display: grid;
    gap: 0.75rem;
    justify-items: start;
    max-width: 44rem;
  }

  .empty h2 {
    font-size: 1.125rem;
  }

  .note {
    padding-bottom: 0.5rem;
    font-size: 0.8125rem;
  }
</style>
