<script lang="ts">
  import { ProgressBar, SkeletonText } from 'carbon-components-svelte';
  import type { Job } from '../api/types';
  import { Watched } from '../lib/api.svelte';
  import { router } from '../lib/router.svelte';
  import { ahead, timeline } from '../lib/jobs';
  import { ago, block, time, took } from '../lib/show';
  import CopyText from '../parts/CopyText.svelte';
  import Copyable from '../parts/Copyable.svelte';
  import JobActions from '../parts/JobActions.svelte';
  import JobRepairs from '../parts/JobRepairs.svelte';
  import RunState from '../parts/RunState.svelte';
  import Sheet from '../parts/Sheet.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import Words from '../parts/Words.svelte';

  let { id }: { id: string } = $props();
  /** The step that is looked at; it is part of the address. */
  const selected = $derived(router.query.get('step') ?? undefined);
  let round = $state(0);

  const shown = new Watched<Job>(() => {
    void round;
    return `/jobs/${encodeURIComponent(id)}`;
  }, (job) => (['succeeded', 'rejected', 'failed', 'cancelled'].includes(job.state) ? undefined : 1500));

  const facts = $derived.by((): [string, string][] => {
    const job = shown.value;
    if (!job) return [];
    const all: [string, string | null][] = [
      ['Job', job.id],
      ['Address', job.url],
      ['From', job.caller],
      ['Request', job.request_id],
      ['In the terminal', `kanzlei job ${job.id} --follow`],
    ];
    return all.filter((fact): fact is [string, string] => fact[1] !== null);
  });

  const events = $derived(shown.value ? timeline(shown.value) : []);
</script>

<svelte:head><title>Job of {shown.value?.workflow ?? '…'} · Kanzlei</title></svelte:head>

<div class="page">
  {#if shown.error}
    <h1>Job</h1>
    <Trouble error={shown.error} />
  {/if}
  {#if shown.value}
    {@const job = shown.value}
    <h1>Job of <a class="quiet" href="/workflows/{job.workflow}">{job.workflow}</a></h1>
    <div class="row head">
      <RunState state={job.state} />
      {#if job.stopping}<span>· stops before its next step</span>{/if}
      {#if job.waits_for}<span>· for {job.waits_for}{job.until ? ` until ${time(job.until)} (${ahead(job.until)})` : ''}</span>{/if}
      {#if job.state === 'scheduled' && job.due}<span>· due {time(job.due)} ({ahead(job.due)})</span>{/if}
      {#if job.started}<span>· {took(job.duration_us)}</span>{/if}
      {#if job.remaining_us !== null}<span class="dim">· about {took(job.remaining_us)} remaining</span>{/if}
      <span class="dim" title={time(job.queued)}>· queued {ago(job.queued)}</span>
      <span class="dim">· lane <a href="/lanes">{job.lane}</a>{job.held ? ' (held)' : ''}, priority {job.priority}</span>
      <span class="dim">· revision {job.revision}{job.retired ? ' (retired meanwhile)' : ''}</span>
      {#each job.tags as tag (tag)}<span class="dim">· tag <a href="/jobs?tag={encodeURIComponent(tag)}">{tag}</a></span> {/each}
      {#if job.group}<span class="dim">· <a href="/jobs?group={job.group}">its group</a></span>{/if}
    </div>
    {#if job.progress !== null && !job.ended}
      <div class="progress"><ProgressBar size="sm" value={job.progress * 100} labelText={job.notes.at(-1)?.text ?? ''} helperText="{Math.round(job.progress * 100)} %" /></div>
    {/if}
    {#if job.late}<p class="late"><Words text={job.late} /></p>{/if}
    {#if job.failure}<p class="why">{job.failure.kind}: {job.failure.detail}</p>{/if}
    <div class="acts"><JobActions which={{ ids: [job.id] }} jobs={[job]} ondone={() => (round += 1)} /></div>
    <div class="acts"><JobRepairs {job} ondone={() => (round += 1)} /></div>
    <div class="beside">
      {#if job.sheet && job.steps}
        <Sheet
          sheet={job.sheet}
          steps={job.steps}
          given={job.input}
          total={Math.max(job.duration_us ?? 0, 1)}
          {selected}
          onselect={(number) => router.filter('step', selected === number ? '' : number)}
        />
      {:else}
        <div class="panel card dim">It has not begun. <pre>{block(job.input)}</pre></div>
      {/if}
      <div class="side">
        <div class="panel card">
          {#each facts as [label, value] (label)}
            <div class="fact">
              <span class="dim">{label}</span>
              <span class="row"><span class="mono ellipsis" title={value}>{value}</span><CopyText text={value} label="Copy: {label}" /></span>
            </div>
          {/each}
          <p class="dim small">Poll it</p>
          <Copyable text={job.curl} label="Copy the line that polls it" />
        </div>
        <div class="panel card">
          <p class="dim small">What happened</p>
          <ol>
            {#each events as entry, index (index)}
              <li><span class="mono dim" title={time(entry.at)}>{time(entry.at).slice(11)}</span> {entry.text}</li>
            {/each}
          </ol>
          {#if job.notice && !job.notice.delivered}
            <p class="small">
              {job.notice.url}: {job.notice.detail ?? 'not delivered yet'}, {job.notice.attempts} attempts{job.notice.next ? `, next ${ahead(job.notice.next)}` : ', given up'}
            </p>
          {/if}
        </div>
        {#if job.status !== null}
          <div class="panel card">
            <div class="row label"><span class="dim">Answer {job.status}</span><CopyText text={block(job.reply)} label="Copy the answer" /></div>
            <pre>{block(job.reply)}</pre>
            {#if job.result_until}<p class="dim small">can be had until {time(job.result_until)}</p>{/if}
          </div>
        {/if}
      </div>
    </div>
  {:else if !shown.error}
    <div class="panel card"><SkeletonText paragraph lines={8} /></div>
  {/if}
</div>

<style>
  .head {
    margin: 0.25rem 0 0.5rem;
    font-size: 0.875rem;
    flex-wrap: wrap;
  }

  .progress {
    max-width: 40rem;
    margin: 0.5rem 0;
  }

  .acts {
    margin: 0.75rem 0 1rem;
  }

  .late {
    font-size: 0.875rem;
  }

  .why {
    color: var(--cds-text-error);
    font-size: 0.875rem;
  }

  .beside {
    display: grid;
    grid-template-columns: minmax(0, 1fr) 24rem;
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

  .fact,
  .small,
  .label,
  li {
    font-size: 0.8125rem;
  }

  .fact .row,
  .label {
    justify-content: space-between;
  }

  li {
    padding: 0.125rem 0;
    overflow-wrap: anywhere;
  }

  pre {
    font-size: 0.75rem;
    line-height: 1.125rem;
    white-space: pre-wrap;
    overflow-wrap: anywhere;
    max-height: 20rem;
    overflow: auto;
  }

  @media (max-width: 66rem) {
    .beside {
      grid-template-columns: minmax(0, 1fr);
    }
  }
</style>
