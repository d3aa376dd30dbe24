<script lang="ts">
  /** Trying the draft: with which input, what answers, how far; and what came of it. */
  import { Button } from 'carbon-components-svelte';
  import { untrack } from 'svelte';
  import type { Delivery, DeliveryLine, DeliveryPage, Description, Draft, Outline, Refusal, RefusalPage, Rehearsal, Run, RunPage, Trial } from '../api/types';
  import { Refused, session } from '../lib/api.svelte';
  import { router } from '../lib/router.svelte';
  import { ago, line } from '../lib/show';
  import MakeCase from '../parts/MakeCase.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import Answers from './Answers.svelte';
  import type { Composer } from './composer.svelte';
  import type { Desk } from './desk.svelte';
  import Stop from './Stop.svelte';
  import TrialInput from './TrialInput.svelte';
  import { watchedRow } from './rows';
  import { answeredBy, type Answering, askedBy } from './trying';

  interface Props {
    composer: Composer;
    desk: Desk;
    onnext: () => void;
  }
  let { composer, desk, onnext }: Props = $props();

  type How = { until?: string; only?: string; stepwise?: boolean };
  /** Where the input comes from: `sample`, `last`, `run ID`, `case NAME`, `refusal ID`, `delivery ID`, `change`. */
  let source = $state(
    router.query.get('run') ? `run ${router.query.get('run')}` : router.query.get('delivery') ? `delivery ${router.query.get('delivery')}` : 'sample',
  );
  /** The step of the run to continue from. */
  let from = $state(router.query.get('from') ?? '');
  let mode = $state<'usual' | 'simulated' | 'live' | 'recorded' | 'chosen'>(router.query.get('recorded') ? 'recorded' : 'usual');
  let how: Record<string, Answering> = $state({});
  let stubs = $state('');
  let editing = $state(false);
  let base = $state.raw<Record<string, unknown>>({});
  let form: TrialInput | undefined = $state(undefined);
  let runs: RunPage['runs'] = $state.raw([]);
  let refusals: Refusal[] = $state.raw([]);
  let cases: string[] = $state.raw([]);
  let deliveries: DeliveryLine[] = $state.raw([]);
  /** The changed row of a trial, as JSON with `before` and `after`. */
  let row = $state('');
  let trying = $state(false);
  let error = $state.raw<Refused | undefined>(undefined);

  const stop = $derived(desk.trial?.stop);
  const selected = $derived(composer.open && composer.part(composer.open)?.number);
  const errors = $derived(composer.errors);
  const warnings = $derived(composer.findings.length - errors);
  const asked = $derived(askedBy(composer.steps));
  const run = $derived(source.startsWith('run ') ? source.slice(4) : undefined);
  const delivery = $derived(source.startsWith('delivery ') ? source.slice(9) : undefined);
  const wanted = $derived(composer.sheet?.inputs ?? []);
  const watches = $derived(composer.sheet?.parts.some((part) => part.kind === 'change') ?? false);

  async function load() {
    const name = encodeURIComponent(composer.name);
    const quiet = <T,>(what: Promise<T>, otherwise: T) => what.catch(() => otherwise);
    if (composer.live !== undefined) {
      [runs, refusals] = await Promise.all([
        quiet(session.get<RunPage>(`/runs?workflow=${name}&limit=10`).then((page) => page.runs), []),
        quiet(session.get<RefusalPage>(`/refusals?workflow=${name}&limit=5`).then((page) => page.refusals), []),
      ]);
    }
    if (composer.sheet?.parts.some((part) => part.kind === 'webhook')) {
      deliveries = await quiet(session.get<DeliveryPage>(`/deliveries?workflow=${name}&limit=10`).then((page) => page.deliveries), []);
    }
    cases = await quiet(caseNames(), []);
  }

  async function caseNames(): Promise<string[]> {
    const path = `cases/${composer.name}.yaml`;
    const { text } = await session.get<Draft>(`/drafts/cases/${encodeURIComponent(composer.name)}`);
    const { steps } = await session.ask<Outline>('POST', '/language/outline', { path, documents: [{ path, text }] });
    return steps.map((one) => one.title);
  }

  /** What the chosen source gives as input. */
  async function baseOf(chosen: string): Promise<Record<string, unknown>> {
    const [what, ...rest] = chosen.split(' ');
    const key = rest.join(' ');
    const object = (value: unknown) => (value !== null && typeof value === 'object' ? (value as Record<string, unknown>) : {});
    switch (what) {
      case 'run':
        return object((await session.get<Run>(`/runs/${encodeURIComponent(key)}`)).input);
      case 'case': {
        const found = await session.ask<Rehearsal>('POST', '/rehearsals', { workflow: composer.sheet?.name || composer.name, documents: composer.question().documents, files: composer.files, only: key });
        const one = found.cases[0];
        if (!one || one.input === null) throw new Refused(0, 'The case has no input to try', 'Its request is refused before a run begins.');
        return object(one.input);
      }
      case 'refusal': {
        const text = refusals.find((one) => one.id === key)?.body.text;
        if (!text) throw new Refused(0, 'The body of the request is not known', 'It is not kept where it may hold something confidential.');
        return object(JSON.parse(text));
      }
      case 'delivery':
        return object((await session.get<Delivery>(`/deliveries/${encodeURIComponent(key)}`)).input);
      case 'last':
        return object(desk.trial?.input);
      default:
        return Object.fromEntries(wanted.filter((one) => one.required).map((one) => [one.name, one.sample]));
    }
  }

  /** What belongs to a run goes with it. */
  function changed() {
    if (!run) {
      from = '';
      if (mode === 'recorded') mode = 'usual';
    }
    if (source === 'change' && !row) void sampleRow();
    if (editing) void choose();
  }

  /** A row of the watched table with a sample for each column, as if it were new. */
  async function sampleRow() {
    const after = await watchedRow(composer.text, (path) => session.get<Description>(path)).catch(() => ({}));
    row = JSON.stringify({ before: null, after }, null, 2);
  }

  async function choose() {
    error = undefined;
    try {
      base = await baseOf(source);
    } catch (refused) {
      error = refused instanceof Refused ? refused : new Refused(0, 'The input cannot be read', String(refused));
    }
  }

  async function edit() {
    editing = !editing;
    if (editing) await choose();
  }

  async function body(step: How): Promise<Record<string, unknown>> {
    const out: Record<string, unknown> = { workflow: composer.sheet?.name || composer.name, ...step, documents: composer.question().documents, files: composer.files };
    if (run) out.run = run;
    if (delivery) out.delivery = delivery;
    if (source === 'change') out.change = JSON.parse(row || '{}');
    if (run && from && !step.only) out.from = from;
    if (editing && form) {
      const { input, changed } = form.value();
      if (changed || !(run || delivery || source === 'change')) [out.input, out.exact] = [input, source !== 'sample' && !run];
    } else if (!run && !delivery && source !== 'sample' && source !== 'change') {
      [out.input, out.exact] = [await baseOf(source), true];
    }
    if (mode === 'live') out.live = true;
    if (mode === 'simulated') out.simulated = asked.flatMap((one) => one.effects);
    const every = Object.fromEntries(asked.map((one) => [one.name, one.recorded ? 'recorded' : 'simulated'] as const));
    if (mode === 'recorded' && run) Object.assign(out, answeredBy(asked, every));
    if (mode === 'chosen') Object.assign(out, answeredBy(asked, how), { stubs });
    return out;
  }

  export async function attempt(step: How = {}) {
    error = undefined;
    await composer.settled();
    trying = true;
    const text = composer.text;
    try {
      desk.trial = await session.ask<Trial>('POST', '/trials', await body(step));
      desk.tried = text;
    } catch (refused) {
      error = refused instanceof Refused ? refused : new Refused(0, 'The input cannot be read', refused instanceof Error ? refused.message : String(refused));
    } finally {
      trying = false;
    }
  }

  $effect(() => {
    void composer.text;
    error = undefined;
  });
  $effect(() => {
    desk.trying = attempt;
    untrack(() => {
      void load();
      // An address that names a message, or a run and how to go on from it, is tried at once.
      if ((run && (from || mode === 'recorded')) || delivery) void attempt();
    });
  });
</script>

<div class="panel bar">
  <strong>Try</strong>
  <label for="try-input">with</label>
  <select id="try-input" class="control" bind:value={source} onchange={changed}>
    <option value="sample">a sample of the input</option>
    {#if desk.trial}<option value="last">the input of the last trial</option>{/if}
    {#if run && !runs.some((one) => one.id === run)}<option value="run {run}">the run that was chosen</option>{/if}
    {#if runs.length}
      <optgroup label="Past runs">
        {#each runs as one (one.id)}<option value="run {one.id}">run {ago(one.started)}: {one.state}{one.status ? ` ${one.status}` : ''}</option>{/each}
      </optgroup>
    {/if}
    {#if cases.length}
      <optgroup label="Cases">
        {#each cases as one (one)}<option value="case {one}">{one}</option>{/each}
      </optgroup>
    {/if}
    {#if delivery && !deliveries.some((one) => one.id === delivery)}<option value="delivery {delivery}">the message that was chosen</option>{/if}
    {#if deliveries.length}
      <optgroup label="Messages that arrived">
        {#each deliveries as one (one.id)}<option value="delivery {one.id}">{ago(one.received)}: {one.state} {one.key ?? `…${one.id.slice(-6)}`}</option>{/each}
      </optgroup>
    {/if}
    {#if watches}<option value="change">a changed row …</option>{/if}
    {#if refusals.some((one) => one.body.text)}
      <optgroup label="Refused requests">
        {#each refusals.filter((one) => one.body.text) as one (one.id)}<option value="refusal {one.id}">{ago(one.at)}: {one.status} {one.problem.title}</option>{/each}
      </optgroup>
    {/if}
  </select>
  <button type="button" class="link" aria-expanded={editing} aria-label="Edit the input" onclick={() => void edit()}>edit</button>
  <label class="sr" for="try-services">services</label>
  <select id="try-services" class="control" bind:value={mode}>
    <option value="usual">read for real, write simulated</option>
    <option value="simulated">all simulated</option>
    {#if run}<option value="recorded">all as the run was answered</option>{/if}
    <option value="live">everything real</option>
    <option value="chosen">chosen one by one …</option>
  </select>
  <Button size="small" kind="tertiary" disabled={trying} on:click={() => void attempt()}>{trying ? 'Trying …' : from ? `Continue from ${from}` : 'Try all'} <kbd>Ctrl+Enter</kbd></Button>
  {#if from}<button type="button" class="link" onclick={() => (from = '')}>from the beginning</button>{/if}
  {#if selected}<Button size="small" kind="ghost" disabled={trying} on:click={() => void attempt({ until: selected })}>Try to {selected}</Button>{/if}
  {#if selected}<Button size="small" kind="ghost" disabled={trying} on:click={() => void attempt({ only: selected })}>Only {selected}</Button>{/if}
  <Button size="small" kind="ghost" disabled={trying} on:click={() => void attempt({ stepwise: true })}>Step by step</Button>
  <span class="counts" role="status">
    {#if errors}<span class="count error">{errors} error{errors === 1 ? '' : 's'}</span>{/if}
    {#if warnings}<span class="count warning">{warnings} warning{warnings === 1 ? '' : 's'}</span>{/if}
    {#if errors || warnings}<button type="button" class="link" onclick={onnext}>next <kbd>F8</kbd></button>{:else if composer.loaded && !composer.unreadable}<span class="dim">no findings</span>{/if}
    {#if composer.unreadable}<span class="count error">The text cannot be read; see the source.</span>{/if}
  </span>
</div>
{#if source === 'change'}
  <div class="panel changed">
    <label for="try-row">The row <span class="mono">before</span> and <span class="mono">after</span>; null where it is new or gone</label>
    <textarea id="try-row" class="control mono" rows={Math.min(14, row.split('\n').length + 1)} bind:value={row} spellcheck="false"></textarea>
  </div>
{/if}
{#if editing}<TrialInput bind:this={form} {wanted} {base} />{/if}
{#if mode === 'chosen'}<Answers {asked} bind:how bind:stubs run={run !== undefined} />{/if}
{#if error}<Trouble {error} />{/if}
{#if desk.trial && !stop}
  {@const trial = desk.trial}
  <div class="result" class:failed={trial.state === 'failed'} role="status">
    <span class="row"><strong>{trial.state}{trial.status ? ` · ${trial.status}` : ''}</strong>
    {#if trial.failure}<span>{trial.steps.find((step) => step.state === 'failed')?.number ?? ''} {trial.failure.kind}: {trial.failure.detail}</span>{:else}<span class="mono clip">{line(trial.reply)}</span>{/if}</span>
    {#if desk.tried !== composer.text}<span class="dim">The draft changed since.</span>{/if}
    <span class="row foot"><span class="dim">{trial.effects.map((effect) => `${effect.name} ${effect.mode}`).join(', ')}</span><MakeCase of="trials" id={trial.id} workflow={trial.workflow} /></span>
  </div>
{/if}
{#if stop}<Stop {desk} {stop} bind:busy={trying} onerror={(found) => (error = found)} />{/if}

<style>
  .changed {
    display: grid;
    gap: 0.25rem;
    padding: 0.5rem 0.75rem;
    font-size: 0.8125rem;
  }

  .bar {
    position: sticky;
    top: 3rem;
    z-index: 6;
    display: flex;
    flex-wrap: wrap;
    gap: 0.25rem 0.5rem;
    align-items: center;
    padding: 0.375rem 0.75rem;
    font-size: 0.8125rem;
  }

  .bar :global(.bx--btn) {
    padding: 0 0.75rem;
    min-width: 0;
    gap: 0.5rem;
  }

  .bar select {
    max-width: 12.5rem;
    text-overflow: ellipsis;
  }

  label {
    color: var(--cds-text-02);
  }

  kbd {
    font-family: var(--mono);
    font-size: 0.6875rem;
  }

  .counts {
    margin-left: auto;
    display: flex;
    gap: 0.375rem;
    align-items: center;
  }

  .count {
    padding: 0.125rem 0.5rem;
    border-radius: 0.75rem;
  }

  .count.error {
    background: var(--error-back);
    color: var(--error-front);
  }

  .count.warning {
    background: var(--warning-back);
    color: var(--warning-front);
  }

  .result {
    padding: 0.375rem 0.75rem;
    border-left: 4px solid var(--cds-support-02);
    background: var(--cds-ui-01);
    font-size: 0.8125rem;
    display: grid;
  }

  .result.failed {
    border-left-color: var(--cds-support-01);
  }

  .result strong {
    white-space: nowrap;
  }

  .clip {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    min-width: 0;
  }

  .foot {
    justify-content: space-between;
    flex-wrap: wrap;
  }
</style>
