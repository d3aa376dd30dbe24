<script lang="ts">
  import { Button, SkeletonText } from 'carbon-components-svelte';
  import type { Run, RunComparison, RunDifference, Step } from '../api/types';
  import { session, Watched } from '../lib/api.svelte';
  import { router } from '../lib/router.svelte';
  import { ago, block, clock, took } from '../lib/show';
  import CopyText from '../parts/CopyText.svelte';
  import Known from '../parts/Known.svelte';
  import MakeCase from '../parts/MakeCase.svelte';
  import RunState from '../parts/RunState.svelte';
  import Sheet from '../parts/Sheet.svelte';
  import Trouble from '../parts/Trouble.svelte';

  let { id }: { id: string } = $props();
  /** The step that is looked at; it is part of the address. */
  const selected = $derived(router.query.get('step') ?? undefined);
  const select = (number: string) => router.filter('step', selected === number ? '' : number);
  /** Another run beside this one. */
  const other = $derived(router.query.get('with') ?? undefined);
  const beside = new Watched<Run>(() => (other ? `/runs/${encodeURIComponent(other)}` : undefined), undefined);
  const comparison = new Watched<RunComparison>(() => (other ? `/runs/${encodeURIComponent(id)}/comparison/${encodeURIComponent(other)}` : undefined), undefined);

  const shown = new Watched<Run>(() => `/runs/${encodeURIComponent(id)}`, undefined);
  const why = $derived((shown.value?.failure as { detail?: string } | null | undefined)?.detail);

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
  /** The differences of each step: `step 2 call rates.latest sent.target`. */
  function byStep(differences: RunDifference[]): Map<string, RunDifference[]> {
    const out = new Map<string, RunDifference[]>();
    for (const difference of differences) {
      const number = /^step (\S+)/.exec(difference.what)?.[1];
      if (number) out.set(number, [...(out.get(number) ?? []), { ...difference, what: difference.what.replace(/^step \S+ /, '') }]);
    }
    return out;
  }

  /** The steps of another run under the numbers of this one: by number in one revision, otherwise by what they are. */
  function paired(run: Run, other: Run): Step[] {
    if (run.revision === other.revision && run.workflow === other.workflow) return other.steps;
    const key = (paragraph: { kind: string; title: string; name?: string }) => `${paragraph.kind} ${paragraph.title}`;
    const numbers = new Map(other.sheet.map((paragraph) => [paragraph.number, run.sheet.find((own) => key(own) === key(paragraph))?.number]));
    return other.steps.flatMap((step) => {
      const number = numbers.get(step.number);
      return number ? [{ ...step, number }] : [];
    });
  }
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
      <MakeCase of="runs" id={run.id} workflow={run.workflow} />
    </div>
    {#if why}<p class="why">{why}</p>{/if}
    {#if run.incomplete}<p class="dim">It has more bytes than are kept of a run: its largest values are cut. Their size and digest are in the record.</p>{/if}
    <div class="beside">
      <Sheet
        sheet={run.sheet}
        steps={run.steps}
        given={run.input}
        total={run.duration_us}
        other={other && beside.value && comparison.value ? { steps: paired(run, beside.value), differences: byStep(comparison.value.differences), names: ['this', 'other'] } : undefined}
        {selected}
        onselect={select}
      />
      <div class="side">
        {#if other && comparison.value}
          <section class="panel card" aria-label="Compared with another run">
            <p>Compared with <a class="mono" href="/runs/{other}">…{other.slice(-12)}</a> of {clock(comparison.value.after.started)}, revision {comparison.value.after.revision}.
              <button type="button" class="link" onclick={() => router.filter('with', '')}>End</button></p>
            {#each comparison.value.differences.filter((one) => !/^step /.test(one.what)) as difference, at (at)}
              <p class="difference"><span class="dim">{difference.what}</span> <del>{difference.before}</del> → <ins>{difference.now}</ins></p>
            {:else}
              <p class="dim">{comparison.value.differences.length ? 'Input and answer are the same.' : 'Nothing differs.'}</p>
            {/each}
          </section>
        {:else if other && comparison.error}<Trouble error={comparison.error} />{/if}
        {#if selected && run.steps.some((step) => step.number === selected)}<Known {run} number={selected} ongo={select} />{/if}
        <div class="panel card">
          {#each facts as [label, value] (label)}
            <div class="fact">
              <span class="dim">{label}</span>
              <span class="row"><span class="mono ellipsis" title={value}>{value}</span><CopyText text={value} label="Copy: {label}" /></span>
            </div>
          {/each}
        </div>
        {#each [['Input', run.input], ['Answer', run.reply]] as [label, value] (label)}
          {#if value !== null}
            <div class="panel card">
              <div class="row label"><span class="dim">{label}</span><CopyText text={block(value)} label="Copy: {label}" /></div>
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

  .card p {
    font-size: 0.8125rem;
    line-height: 1.125rem;
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

  .card .difference {
    font-size: 0.75rem;
    overflow-wrap: anywhere;
  }

  .difference del,
  .difference ins {
    font-family: var(--mono);
    text-decoration: none;
  }

  @media (max-width: 66rem) {
    .beside {
      grid-template-columns: minmax(0, 1fr);
    }
  }
</style>
