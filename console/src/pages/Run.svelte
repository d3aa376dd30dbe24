<script lang="ts">
  import { Button, CopyButton, SkeletonText } from 'carbon-components-svelte';
  import Checkmark from 'carbon-icons-svelte/lib/Checkmark.svelte';
  import Document from 'carbon-icons-svelte/lib/Document.svelte';
  import type { RecordedCase, Run } from '../api/types';
  import { Refused, session, Watched } from '../lib/api.svelte';
  import { ago, block, clock, took } from '../lib/show';
  import RunState from '../parts/RunState.svelte';
  import Sheet from '../parts/Sheet.svelte';
  import Trouble from '../parts/Trouble.svelte';

  let { id }: { id: string } = $props();
  let selected: string | undefined = $state(undefined);

  const shown = new Watched<Run>(() => `/runs/${encodeURIComponent(id)}`, undefined);
  const why = $derived((shown.value?.failure as { detail?: string } | null | undefined)?.detail);

  let recorded = $state(false);
  let refused: Refused | undefined = $state(undefined);

  /** Copies a case that shows what this run did. */
  async function record() {
    refused = undefined;
    try {
      const made = await session.get<RecordedCase>(`/runs/${encodeURIComponent(id)}/case`);
      await navigator.clipboard.writeText(made.document);
      recorded = true;
      setTimeout(() => (recorded = false), 1500);
    } catch (error) {
      refused = error instanceof Refused ? error : new Refused(0, 'Not copied', String(error));
    }
  }

  /** Whether there is a job of this id; a run that has not ended is shown by it alone. */
  let job = $state(false);
  $effect(() => {
    if (shown.error?.status === 404) void session.get(`/jobs/${encodeURIComponent(id)}`).then(() => (job = true), () => undefined);
  });

  const facts = $derived.by((): [string, string][] => {
    const run = shown.value;
    if (!run) return [];
    const all: [string, string | null][] = [
      ['Run', run.id],
      ['Request', run.request_id],
      ['Trace', run.trace_id],
      ['From', run.caller],
      ['In the terminal', `kanzlei run ${run.id}`],
      ['Make it a case', `kanzlei record ${run.id}`],
      ['Poll its job', run.curl],
    ];
    return all.filter((fact): fact is [string, string] => fact[1] !== null);
  });
</script>

<svelte:head><title>Run of {shown.value?.workflow ?? '…'} · Kanzlei</title></svelte:head>

<div class="page">
  {#if shown.error}
    <h1>Run</h1>
    <Trouble error={shown.error} />
    {#if job}<p>It has not ended, or left no details. <a href="/jobs/{id}">Its job</a> shows how it stands.</p>{/if}
  {/if}
  {#if shown.value}
    {@const run = shown.value}
    <h1>Run of <a class="quiet" href="/workflows/{run.workflow}">{run.workflow}</a></h1>
    <div class="row head">
      <RunState state={run.state} />
      <span>· {run.status ?? 'no answer'} · {took(run.duration_us)}</span>
      <span class="dim" title={run.started}>· {clock(run.started)}, {ago(run.started)}</span>
      <span class="dim">· revision {run.revision}</span>
      <span class="mono dim">· {run.entry}</span>
      {#if run.curl}<span>· <a href="/jobs/{run.id}">its job</a></span>{/if}
      <Button kind="ghost" size="small" href="/workflows/{run.workflow}?run={run.id}">Try its input on the sheet</Button>
      <Button kind="ghost" size="small" icon={recorded ? Checkmark : Document} on:click={() => void record()}>
        {recorded ? 'Copied' : 'Copy as a case'}
      </Button>
    </div>
    {#if refused}<Trouble error={refused} />{/if}
    {#if why}<p class="why">{why}</p>{/if}
    <div class="beside">
      <Sheet
        sheet={run.sheet}
        steps={run.steps}
        given={run.input}
        total={run.duration_us}
        {selected}
        onselect={(number) => (selected = selected === number ? undefined : number)}
      />
      <div class="side">
        <div class="panel card">
          {#each facts as [label, value] (label)}
            <div class="fact">
              <span class="dim">{label}</span>
              <span class="row"><span class="mono ellipsis" title={value}>{value}</span><CopyButton text={value} feedback="Copied" /></span>
            </div>
          {/each}
        </div>
        {#each [['Input', run.input], ['Answer', run.reply]] as [label, value] (label)}
          {#if value !== null}
            <div class="panel card">
              <div class="row label"><span class="dim">{label}</span><CopyButton text={block(value)} feedback="Copied" /></div>
              <pre>{block(value)}</pre>
            </div>
          {/if}
        {/each}
      </div>
    </div>
  {:else if !shown.error}
    <div class="panel card"><SkeletonText paragraph lines={8} /></div>
  {/if}
</div>

<style>
  .head {
    margin: 0.25rem 0 0.75rem;
    font-size: 0.875rem;
    flex-wrap: wrap;
  }

  .why {
    color: var(--cds-text-error);
    margin-bottom: 0.75rem;
    font-size: 0.875rem;
  }

  .beside {
    display: grid;
    grid-template-columns: minmax(0, 1fr) 20rem;
    gap: 1rem;
    align-items: start;
  }

  .side {
    display: grid;
    grid-template-columns: minmax(0, 1fr);
    gap: 1rem;
  }

  .card {
    padding: 0.75rem;
  }

  .fact {
    font-size: 0.8125rem;
  }

  .fact .row,
  .label {
    justify-content: space-between;
  }

  .label {
    font-size: 0.8125rem;
  }

  pre {
    font-size: 0.75rem;
    line-height: 1.125rem;
    white-space: pre-wrap;
    overflow-wrap: anywhere;
    max-height: 24rem;
    overflow: auto;
  }

  @media (max-width: 66rem) {
    .beside {
      grid-template-columns: minmax(0, 1fr);
    }
  }
</style>
