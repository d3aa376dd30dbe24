<script lang="ts">
  /** A workflow: its sheet to compose, its runs, figures and history. A draft that was never deployed is shown like one. */
  import { Button, SkeletonText, Tag } from 'carbon-components-svelte';
  import { onMount, untrack } from 'svelte';
  import type { Drafts, RunPage, Workflow } from '../api/types';
  import Calling from '../compose/Calling.svelte';
  import Cases from '../compose/Cases.svelte';
  import Compose from '../compose/Compose.svelte';
  import { Composer } from '../compose/composer.svelte';
  import Deploy from '../compose/Deploy.svelte';
  import { Refused, session, Watched } from '../lib/api.svelte';
  import { router } from '../lib/router.svelte';
  import { ago } from '../lib/show';
  import Address from '../parts/Address.svelte';
  import Gradual from '../parts/Gradual.svelte';
  import Figures from '../parts/Figures.svelte';
  import History from '../parts/History.svelte';
  import HoldWorkflow from '../parts/HoldWorkflow.svelte';
  import RunTable from '../parts/RunTable.svelte';
  import Trouble from '../parts/Trouble.svelte';

  let { name, part }: { name: string; part: string } = $props();
  const TABS = [
    { id: 'sheet', text: 'Sheet' },
    { id: 'cases', text: 'Cases' },
    { id: 'call', text: 'Call' },
    { id: 'runs', text: 'Runs' },
    { id: 'figures', text: 'Figures' },
    { id: 'gradual', text: 'Side by side' },
    { id: 'history', text: 'History' },
  ];
  const base = $derived(`/workflows/${encodeURIComponent(name)}`);
  const tab = $derived(TABS.some((one) => one.id === part) ? part : part === 'deploy' ? 'deploy' : 'sheet');

  const composer = untrack(() => new Composer(name));
  let workflow: Workflow | undefined = $state.raw(undefined);
  let error: Refused | undefined = $state.raw(undefined);
  let source = $state(localStorage.getItem('kanzlei-source') === 'yes');
  let comparing = $state(false);

  async function load() {
    error = undefined;
    try {
      workflow = await session.get<Workflow>(base).catch((refused: Refused) => {
        if (refused.status === 404) return undefined;
        throw refused;
      });
      const found = await composer.load(workflow && { text: workflow.source, revision: workflow.revision });
      if (!found) error = new Refused(404, 'No such workflow', `Neither is a workflow ${name} live, nor is there a draft of it.`);
    } catch (refused) {
      error = refused instanceof Refused ? refused : new Refused(0, 'Something went wrong', String(refused));
    }
  }

  async function again() {
    workflow = await session.get<Workflow>(base).catch(() => undefined);
  }

  onMount(() => {
    void load();
    return () => composer.stop();
  });

  const searched = $derived(router.query.get('text') ?? '');
  let words = $state(router.query.get('text') ?? '');
  const runs = new Watched<RunPage>(() => (tab === 'runs' && workflow ? `/runs?workflow=${encodeURIComponent(name)}${searched ? `&text=${encodeURIComponent(searched)}` : ''}` : undefined), 5000);
  const drafts = new Watched<Drafts>(() => '/drafts', 10_000);
  // What was saved on the sheet is there at once.
  $effect(() => {
    if (tab === 'history' && composer.saving === 'saved') untrack(() => drafts.again());
  });
  const draft = $derived(drafts.value?.drafts.find((one) => one.kind === 'workflow' && one.name === name));
  const differs = $derived(composer.live !== undefined && composer.loaded && composer.text !== composer.live);
  const status = $derived.by(() => {
    if (composer.conflict) return 'draft · conflict';
    switch (composer.saving) {
      case 'unsaved':
      case 'saving':
        return 'draft · saving …';
      case 'failed':
        return 'draft · not saved';
      case 'saved':
        return `draft · saved ${composer.saved?.toTimeString().slice(0, 8) ?? ''}`;
      default:
        return composer.live === undefined ? 'not deployed' : '';
    }
  });

  function toggleSource() {
    source = !source;
    localStorage.setItem('kanzlei-source', source ? 'yes' : 'no');
  }
</script>

<svelte:head><title>{name} · Kanzlei</title></svelte:head>

<div class="page">
  <div class="top">
    <div class="names">
      <h1>{name}</h1>
      {#if composer.loaded || workflow}
        <p class="dim">
          {composer.sheet?.about || workflow?.about || ''}
          {#if composer.loaded && tab === 'sheet'}<button type="button" class="link" onclick={() => void composer.unfold(composer.open === 'head' ? undefined : 'head')}>{composer.sheet?.about ? 'Edit' : 'Say what it is for'}</button>{/if}
        </p>
      {/if}
    </div>
    <div class="row actions">
      {#if workflow}<Tag type="green" size="sm" title="since {ago(workflow.since)}">live · revision {workflow.revision}</Tag>{/if}
      {#if workflow?.gradual}<a href="{base}/gradual"><Tag type="teal" size="sm">{workflow.gradual.rules.share ? `${workflow.gradual.rules.share} % · ` : ''}revision {workflow.gradual.revision}</Tag></a>{/if}
      {#if status}<Tag type={composer.saving === 'failed' ? 'red' : 'gray'} size="sm"><span role="status">{status}</span></Tag>{/if}
      {#if workflow && !workflow.hold}<HoldWorkflow workflow={name} hold={undefined} ondone={() => void again()} />{/if}
      {#if composer.loaded}
        {#if tab === 'sheet'}
          <span class="undo">
            <button type="button" aria-label="Undo" title="Undo (Ctrl+Z)" disabled={!composer.canUndo} onclick={() => void composer.undo()}>↶</button>
            <button type="button" aria-label="Redo" title="Redo (Ctrl+Shift+Z)" disabled={!composer.canRedo} onclick={() => void composer.redo()}>↷</button>
          </span>
          {#if differs}<Button kind="ghost" size="small" aria-expanded={comparing} on:click={() => (comparing = !comparing)}>Compare</Button>{/if}
          <Button kind="tertiary" size="small" aria-pressed={source} on:click={toggleSource}>Source</Button>
        {/if}
        {#if tab !== 'deploy'}<Button size="small" href="{base}/deploy" disabled={composer.live !== undefined && !differs}>Deploy …</Button>{/if}
      {/if}
    </div>
  </div>
  {#if workflow}
    {#each workflow.endpoints as endpoint (endpoint.method + endpoint.url)}<div class="address"><Address {endpoint} /></div>{/each}
  {/if}
  {#if workflow?.hold}<HoldWorkflow workflow={name} hold={workflow.hold} ondone={() => void again()} />{/if}
  {#if error}<Trouble {error} />{/if}
  <nav class="tabs" aria-label="Parts of the workflow">
    {#each TABS as one (one.id)}
      <a href={one.id === 'sheet' ? base : `${base}/${one.id}`} aria-current={tab === one.id ? 'page' : undefined}>{one.text}</a>
    {/each}
  </nav>
  {#if tab === 'deploy'}
    {#if composer.loaded}<Deploy {composer} ondeployed={() => void again()} />{/if}
  {:else if tab === 'sheet'}
    {#if composer.loaded}
      <Compose {composer} {source} {comparing} />
    {:else if !error}
      <div class="panel empty"><SkeletonText paragraph lines={8} /></div>
    {/if}
  {:else if tab === 'cases'}
    {#if composer.loaded}<Cases {composer} />{/if}
  {:else if workflow && tab === 'call'}
    <div class="panel call"><Calling {workflow} /></div>
  {:else if tab === 'runs'}
    {#if !workflow}
      <div class="panel empty">It is not deployed yet.</div>
    {:else if runs.error}
      <Trouble error={runs.error} />
    {:else if runs.value && (runs.value.runs.length || searched)}
      <form class="row search" role="search" onsubmit={(event) => { event.preventDefault(); router.filter('text', words); }}>
        <label for="runs-text">In input or answer</label>
        <input id="runs-text" type="search" class="control" bind:value={words} oninput={(event) => { if (!event.currentTarget.value) router.filter('text', ''); }} />
        <button type="submit" class="link">Search</button>
        <a href="/runs?workflow={encodeURIComponent(name)}{searched ? `&text=${encodeURIComponent(searched)}` : ''}">All filters</a>
      </form>
      {#if runs.value.runs.length}<RunTable runs={runs.value.runs} workflow={false} />{:else}<div class="panel empty">No run fits.</div>{/if}
    {:else if runs.value}
      <div class="panel empty">No runs yet.</div>
    {:else}
      <div class="panel empty"><SkeletonText paragraph lines={6} /></div>
    {/if}
  {:else if workflow && tab === 'figures'}
    <Figures workflow={name} revision={workflow.revision} />
  {:else if workflow && tab === 'gradual'}
    <Gradual {workflow} ondone={() => void again()} />
  {:else if workflow}
    <History {workflow} {composer} {draft} onchange={() => { drafts.again(); void composer.reload(); }} />
  {:else if composer.loaded}
    <div class="panel empty">It is not deployed yet.</div>
  {/if}
</div>

<style>
  .top {
    display: flex;
    flex-wrap: wrap;
    justify-content: space-between;
    gap: 0.5rem 1rem;
  }

  .names {
    min-width: 0;
    flex: 1 1 14rem;
  }

  .names p {
    font-size: 0.875rem;
  }

  .actions {
    flex-wrap: wrap;
  }

  .undo button {
    width: 2rem;
    height: 2rem;
    border: 0;
    background: none;
    color: inherit;
    font-size: 1.125rem;
    cursor: pointer;
  }

  .undo button:disabled {
    color: var(--cds-disabled-02);
    cursor: default;
  }

  .address {
    padding-bottom: 0.25rem;
  }

  .tabs {
    display: flex;
    flex-wrap: wrap;
    gap: 0.25rem;
    border-bottom: 1px solid var(--cds-ui-03);
    margin-bottom: 0.5rem;
  }

  .tabs a {
    padding: 0.375rem 0.75rem;
    color: var(--cds-text-02);
    text-decoration: none;
    font-size: 0.875rem;
    border-bottom: 2px solid transparent;
  }

  .tabs a:hover {
    background: var(--cds-hover-ui);
  }

  .tabs a[aria-current] {
    color: var(--cds-text-01);
    font-weight: 600;
    border-bottom-color: var(--cds-interactive-04);
  }

  .search {
    font-size: 0.8125rem;
    flex-wrap: wrap;
    padding-bottom: 0.375rem;
  }

  .call {
    padding: 0.75rem;
    display: grid;
    grid-template-columns: minmax(0, 1fr);
    gap: 0.5rem;
  }

  .empty {
    padding: 1.5rem;
  }
</style>
