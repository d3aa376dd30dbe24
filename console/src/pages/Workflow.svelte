<script lang="ts">
  import { CodeSnippet, ContentSwitcher, SkeletonText, Switch, Tag } from 'carbon-components-svelte';
  import type { Drafts, RunPage, Workflow } from '../api/types';
  import { Watched } from '../lib/api.svelte';
  import { ago } from '../lib/show';
  import Address from '../parts/Address.svelte';
  import Figures from '../parts/Figures.svelte';
  import History from '../parts/History.svelte';
  import RunTable from '../parts/RunTable.svelte';
  import Sheet from '../parts/Sheet.svelte';
  import Source from '../parts/Source.svelte';
  import Trouble from '../parts/Trouble.svelte';

  let { name }: { name: string } = $props();
  let view = $state(0);
  let selected: string | undefined = $state(undefined);

  const shown = new Watched<Workflow>(() => `/workflows/${encodeURIComponent(name)}`, 10_000);
  const runs = new Watched<RunPage>(() => `/runs?workflow=${encodeURIComponent(name)}`, 5000);
  const drafts = new Watched<Drafts>(() => '/drafts', 10_000);
  const draft = $derived(drafts.value?.drafts.find((one) => one.kind === 'workflow' && one.name === name));

  /** The lines of the selected step: from its own to the one before the next step's. */
  const marked = $derived.by(() => {
    const sheet = shown.value?.sheet;
    const index = sheet?.findIndex((paragraph) => paragraph.number === selected) ?? -1;
    const at = sheet?.[index];
    if (!sheet || !at) return undefined;
    const lines = shown.value?.source.split('\n') ?? [];
    const next = sheet.map((p) => p.line).filter((line) => line > at.line).sort((a, b) => a - b)[0];
    let last = (next ?? lines.length + 1) - 1;
    while (last > at.line && /^\s*(#.*|(then|else|catch|steps):)?\s*$/.test(lines[last - 1] ?? '')) last -= 1;
    return { from: at.line, to: last };
  });
</script>

<svelte:head><title>{name} · Kanzlei</title></svelte:head>

<div class="page">
  <h1>{name}</h1>
  {#if shown.error}<Trouble error={shown.error} />{/if}
  {#if shown.value}
    {@const workflow = shown.value}
    <p class="dim">{workflow.about}</p>
    <div class="row head">
      <Tag type="green" size="sm">live · revision {workflow.revision}</Tag>
      <span class="dim since">since {ago(workflow.since)}</span>
      {#if draft}<Tag type="blue" size="sm" title="Saved {ago(draft.changed)} by {draft.operator}">draft {draft.state}</Tag>{/if}
      {#each workflow.endpoints as endpoint (endpoint.method + endpoint.path)}<Address {endpoint} />{/each}
    </div>
    <div class="views">
      <ContentSwitcher size="sm" bind:selectedIndex={view}>
        <Switch text="Sheet" />
        <Switch text="Runs" />
        <Switch text="Figures" />
        <Switch text="History" />
      </ContentSwitcher>
    </div>
    {#if view === 0}
      <div class="beside">
        <Sheet sheet={workflow.sheet} inputs={workflow.input} {selected} onselect={(number) => (selected = selected === number ? undefined : number)} />
        <Source text={workflow.source} from={marked?.from} to={marked?.to} />
      </div>
      {#each workflow.endpoints as endpoint (endpoint.method + endpoint.path)}
        <div class="curl">
          <p class="dim">A request that works</p>
          <CodeSnippet type="multi" code={endpoint.curl} wrapText feedback="Copied" />
        </div>
      {/each}
    {:else if view === 1}
      {#if runs.error}
        <Trouble error={runs.error} />
      {:else if runs.value?.runs.length}
        <RunTable runs={runs.value.runs} workflow={false} />
      {:else if runs.value}
        <div class="panel empty">No runs yet.</div>
      {:else}
        <div class="panel empty"><SkeletonText paragraph lines={6} /></div>
      {/if}
    {:else if view === 2}
      <Figures workflow={name} revision={workflow.revision} />
    {:else}
      <History {workflow} {draft} onchange={() => drafts.again()} />
    {/if}
  {:else if !shown.error}
    <div class="panel empty"><SkeletonText paragraph lines={8} /></div>
  {/if}
</div>

<style>
  .head {
    margin: 0.5rem 0;
    flex-wrap: wrap;
  }

  .since {
    font-size: 0.8125rem;
    margin-right: 0.5rem;
  }

  .views {
    width: 32rem;
    margin-bottom: 0.75rem;
  }

  .beside {
    display: grid;
    grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
    gap: 1rem;
    align-items: start;
  }

  .curl {
    margin-top: 1rem;
  }

  .curl p {
    font-size: 0.8125rem;
    margin-bottom: 0.25rem;
  }

  .curl :global(.bx--snippet) {
    max-width: none;
  }

  .empty {
    padding: 1.5rem;
  }

  @media (max-width: 66rem) {
    .beside {
      grid-template-columns: minmax(0, 1fr);
    }
  }
</style>
