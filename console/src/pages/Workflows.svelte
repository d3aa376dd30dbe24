<script lang="ts">
  import { SkeletonText, Tag } from 'carbon-components-svelte';
  import type { Drafts, Workflows } from '../api/types';
  import { Watched } from '../lib/api.svelte';
  import { ago, count, took } from '../lib/show';
  import Address from '../parts/Address.svelte';
  import RunState from '../parts/RunState.svelte';
  import Trouble from '../parts/Trouble.svelte';

  const listed = new Watched<Workflows>(() => '/workflows', 3000);
  const drafts = new Watched<Drafts>(() => '/drafts', 5000);
  const draftOf = (name: string) => drafts.value?.drafts.find((draft) => draft.kind === 'workflow' && draft.name === name);
  /** Drafts of documents that are not live, and of services and lanes. */
  const others = $derived((drafts.value?.drafts ?? []).filter((draft) => draft.kind !== 'workflow' || draft.live === null));
</script>

<svelte:head><title>Workflows · Kanzlei</title></svelte:head>

<div class="page">
  <h1>Workflows</h1>
  {#if listed.error}<Trouble error={listed.error} />{/if}
  {#if listed.value && listed.value.workflows.length === 0}
    <div class="panel empty">
      <p>Nothing is live yet. Write a document that begins <code>workflow: NAME</code> and put it live:</p>
      <pre>kanzlei deploy PATH</pre>
    </div>
  {:else if listed.value}
    {#if !listed.value.counts_known}
      <p class="dim note">The database is unavailable: counts and last runs are not known now. Workflows are served all the same.</p>
    {/if}
    <div class="panel list" role="list">
      {#each listed.value.workflows as workflow (workflow.name)}
        <div class="item" role="listitem">
          <div class="what">
            <div class="row">
              <a href="/workflows/{workflow.name}">{workflow.name}</a>
              <Tag type="green" size="sm">live · revision {workflow.revision}</Tag>
              {#if draftOf(workflow.name)}<Tag type="blue" size="sm">draft {draftOf(workflow.name)?.state}</Tag>{/if}
            </div>
            <p class="dim about">{workflow.about}</p>
            {#each workflow.endpoints as endpoint (endpoint.method + endpoint.path)}
              <Address {endpoint} />
            {:else}
              <p class="dim about">No entry: only other workflows can start it.</p>
            {/each}
          </div>
          <div class="runs">
            <div class="marks" aria-label="Last runs, newest first">
              {#each workflow.last_runs as run (run.id)}
                <a href="/runs/{run.id}" title="{run.status ?? run.state} · {took(run.duration_us)} · {ago(run.started)}">
                  <RunState state={run.state} label={false} />
                </a>
              {:else}
                <span class="dim">no runs yet</span>
              {/each}
            </div>
            <div class="dim small">
              {count(workflow.day.runs)} {workflow.day.runs === 1 ? "run" : "runs"} in 24 h
              {#if workflow.day.rejected > 0}
                · <a href="/runs?workflow={workflow.name}&state=rejected">{count(workflow.day.rejected)} rejected</a>
              {/if}
              {#if workflow.day.failed > 0}
                · <a class="failed" href="/runs?workflow={workflow.name}&state=failed">{count(workflow.day.failed)} failed</a>
              {/if}
              {#if workflow.day.mean_us !== null}· {took(workflow.day.mean_us)} mean{/if}
            </div>
            {#if workflow.day.dropped > 0}
              <div class="dim small">details of {count(workflow.day.dropped)} dropped under load</div>
            {/if}
          </div>
        </div>
      {/each}
    </div>
    {#if others.length > 0}
      <h2 class="others">Drafts</h2>
      <div class="panel list" role="list">
        {#each others as draft (draft.kind + draft.name)}
          <div class="item draft" role="listitem">
            <div class="row">
              <span>{draft.kind === 'workflow' ? draft.name : `${draft.kind} ${draft.name}`}</span>
              <Tag type="blue" size="sm">{draft.state}</Tag>
              <span class="dim small">saved {ago(draft.changed)} by {draft.operator}</span>
            </div>
            <code class="dim small">kanzlei deploy --draft {draft.kind === 'workflow' ? draft.name : `${draft.kind}/${draft.name}`}</code>
          </div>
        {/each}
      </div>
    {/if}
  {:else if !listed.error}
    <div class="panel empty"><SkeletonText paragraph lines={5} /></div>
  {/if}
</div>

<style>
  .list,
  .empty {
    margin-top: 1rem;
  }

  .empty {
    padding: 1.5rem;
  }

  .empty pre {
    margin-top: 0.75rem;
  }

  .note {
    margin-top: 0.5rem;
  }

  .item {
    display: grid;
    grid-template-columns: minmax(0, 1fr) 21rem;
    gap: 1.5rem;
    padding: 0.75rem 1rem;
    border-bottom: 1px solid var(--cds-ui-03);
  }

  .item:last-child {
    border-bottom: none;
  }

  .others {
    margin-top: 1.5rem;
    font-size: 1rem;
  }

  .draft {
    align-items: center;
  }

  .what a {
    font-size: 1rem;
  }

  .about {
    font-size: 0.875rem;
    margin: 0.125rem 0;
  }

  .runs {
    text-align: right;
    padding-top: 0.25rem;
  }

  .marks {
    display: flex;
    justify-content: flex-end;
    gap: 0.125rem;
    min-height: 1.25rem;
    margin-bottom: 0.375rem;
  }

  .small {
    font-size: 0.8125rem;
  }

  .failed {
    color: var(--cds-text-error);
  }
</style>
