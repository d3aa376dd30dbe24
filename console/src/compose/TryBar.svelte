<script lang="ts">
  /** Trying the draft: with which input, what is real, how far; and stepping through it. */
  import { Button } from 'carbon-components-svelte';
  import type { RefusalPage, RunPage, Trial, TrialDecision } from '../api/types';
  import { Refused, session } from '../lib/api.svelte';
  import { router } from '../lib/router.svelte';
  import { ago, block, line } from '../lib/show';
  import Trouble from '../parts/Trouble.svelte';
  import type { Composer } from './composer.svelte';
  import type { Desk } from './desk.svelte';

  interface Props {
    composer: Composer;
    desk: Desk;
    onnext: () => void;
  }
  let { composer, desk, onnext }: Props = $props();

  type How = { until?: string; only?: string; stepwise?: boolean };
  let source = $state(router.query.get('run') ? `run ${router.query.get('run')}` : 'sample');
  let mode = $state('usual');
  let editing = $state(false);
  let given = $state('');
  let runs: RunPage['runs'] = $state.raw([]);
  let refusals: RefusalPage['refusals'] = $state.raw([]);
  let trying = $state(false);
  let error: Refused | undefined = $state.raw(undefined);
  let answer = $state('');
  let status = $state('200');
  let decision = $state('usual');
  let edited: Record<string, string> = $state({});

  const stop = $derived(desk.trial?.stop);
  const selected = $derived(composer.open && composer.part(composer.open)?.number);
  const errors = $derived(composer.errors);
  const warnings = $derived(composer.findings.length - errors);

  async function load() {
    if (composer.live === undefined) return;
    const name = encodeURIComponent(composer.name);
    [runs, refusals] = await Promise.all([
      session.get<RunPage>(`/runs?workflow=${name}&limit=10`).then((page) => page.runs, () => []),
      session.get<RefusalPage>(`/refusals?workflow=${name}&limit=5`).then((page) => page.refusals, () => []),
    ]);
  }

  function body(how: How): Record<string, unknown> {
    const out: Record<string, unknown> = { workflow: composer.sheet?.name || composer.name, ...how, documents: composer.question().documents };
    if (source.startsWith('run ')) out.run = source.slice(4);
    if (source === 'last' && desk.trial) [out.input, out.exact] = [desk.trial.input, true];
    if (editing && given.trim()) out.input = { ...(out.input as object), ...JSON.parse(given) };
    if (mode === 'live') out.live = true;
    if (mode === 'simulated') out.simulated = services();
    return out;
  }

  /** The names of all that the draft asks of others. */
  function services(): string[] {
    const of = (kind: string) => composer.steps.filter((step) => step.kind === kind);
    return [...new Set([...of('call').map((step) => step.title), ...of('sql').map((step) => `sql.${step.title}`), 'recall'])];
  }

  export async function attempt(how: How = {}) {
    error = undefined;
    await composer.settled();
    trying = true;
    const text = composer.text;
    try {
      desk.trial = await session.ask<Trial>('POST', '/trials', body(how));
      desk.tried = text;
      edited = {};
    } catch (refused) {
      error = refused instanceof Refused ? refused : new Refused(0, 'The input cannot be read', refused instanceof Error ? refused.message : String(refused));
    } finally {
      trying = false;
    }
  }

  async function decide(what: string) {
    if (!desk.trial) return;
    const made: TrialDecision = { decision: what, status: null, headers: {}, body: null, kind: '', values: {} };
    try {
      if (what === 'answer') [made.status, made.body] = [Number(status), answer.trim() ? JSON.parse(answer) : null];
      if (what === 'fail') made.kind = 'unreachable';
      const values = Object.entries(edited).map(([name, text]) => [name, JSON.parse(text)]);
      made.values = Object.fromEntries(values);
    } catch (fault) {
      error = new Refused(0, 'The value cannot be read', fault instanceof Error ? fault.message : String(fault));
      return;
    }
    error = undefined;
    trying = true;
    try {
      if (Object.keys(made.values ?? {}).length && what !== 'set') {
        await session.ask<Trial>('POST', `/trials/${desk.trial.id}/decisions`, { ...made, decision: 'set' });
        made.values = {};
        edited = {};
      }
      desk.trial = await session.ask<Trial>('POST', `/trials/${desk.trial.id}/decisions`, made);
    } catch (refused) {
      error = refused instanceof Refused ? refused : new Refused(0, 'It failed', String(refused));
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
    void load();
  });
</script>

<div class="panel bar">
  <strong>Try</strong>
  <label for="try-input">with</label>
  <select id="try-input" class="control" bind:value={source}>
    <option value="sample">a sample of the input</option>
    {#if desk.trial}<option value="last">the input of the last trial</option>{/if}
    {#if source.startsWith('run ') && !runs.some((run) => `run ${run.id}` === source)}<option value={source}>the run that was chosen</option>{/if}
    {#each runs as run (run.id)}<option value="run {run.id}">run {ago(run.started)}: {run.state}{run.status ? ` ${run.status}` : ''}</option>{/each}
  </select>
  <button type="button" class="link" aria-expanded={editing} aria-label="Edit the input" onclick={() => { editing = !editing; if (editing && !given) given = block(desk.trial?.input ?? {}); }}>edit</button>
  <label class="sr" for="try-services">services</label>
  <select id="try-services" class="control" bind:value={mode}>
    <option value="usual">read for real, write simulated</option>
    <option value="simulated">all simulated</option>
    <option value="live">everything real</option>
  </select>
  <Button size="small" kind="tertiary" disabled={trying} on:click={() => void attempt()}>{trying ? 'Trying …' : 'Try all'} <kbd>Ctrl+Enter</kbd></Button>
  {#if selected}<Button size="small" kind="ghost" disabled={trying} on:click={() => void attempt({ until: selected })}>Try to {selected}</Button>{/if}
  <Button size="small" kind="ghost" disabled={trying} on:click={() => void attempt({ stepwise: true })}>Step by step</Button>
  <span class="counts" role="status">
    {#if errors}<span class="count error">{errors} error{errors === 1 ? '' : 's'}</span>{/if}
    {#if warnings}<span class="count warning">{warnings} warning{warnings === 1 ? '' : 's'}</span>{/if}
    {#if errors || warnings}<button type="button" class="link" onclick={onnext}>next <kbd>F8</kbd></button>{:else if composer.loaded && !composer.unreadable}<span class="dim">no findings</span>{/if}
    {#if composer.unreadable}<span class="count error">The text cannot be read; see the source.</span>{/if}
  </span>
</div>
{#if editing}
  <div class="panel input">
    <label for="try-json">Input, put over the {source === 'sample' ? 'sample' : 'one that is chosen'}</label>
    <textarea id="try-json" class="control mono" rows={Math.min(12, given.split('\n').length + 1)} bind:value={given} spellcheck="false"></textarea>
    {#if refusals.length}
      <p class="dim">Refused requests:
        {#each refusals as refusal (refusal.request_id)}<button type="button" class="link" onclick={() => (given = block((refusal as { body?: unknown }).body ?? {}))}>{ago(refusal.at)}: {refusal.status}</button>{/each}
      </p>
    {/if}
  </div>
{/if}
{#if error}<Trouble {error} />{/if}
{#if desk.trial && !stop}
  {@const trial = desk.trial}
  <div class="result" class:failed={trial.state === 'failed'} role="status">
    <span class="row"><strong>{trial.state}{trial.status ? ` · ${trial.status}` : ''}</strong>
    {#if trial.failure}<span>{trial.steps.find((step) => step.state === 'failed')?.number ?? ''} {trial.failure.kind}: {trial.failure.detail}</span>{:else}<span class="mono clip">{line(trial.reply)}</span>{/if}</span>
    {#if desk.tried !== composer.text}<span class="dim">The draft changed since.</span>{/if}
    <span class="dim">{trial.effects.map((effect) => `${effect.name} ${effect.mode}`).join(', ')}</span>
  </div>
{/if}
{#if stop}
  <section class="panel stop" aria-label="The trial stopped">
    <p><strong>Stopped before {stop.step}</strong> <span class="mono">{stop.effect.name} {stop.effect.what}</span> <span class="dim">usually {stop.effect.mode}</span></p>
    {#if stop.refused}<p class="why">{stop.refused}</p>{/if}
    <div class="names">
      {#each stop.names as name (name.name)}
        <label class="mono" for="value-{name.name}">{name.name}</label>
        <input id="value-{name.name}" class="control mono" value={edited[name.name] ?? JSON.stringify(name.value)} oninput={(event) => (edited = { ...edited, [name.name]: event.currentTarget.value })} />
      {/each}
    </div>
    <div class="row decide">
      <Button size="small" disabled={trying} on:click={() => void decide('usual')}>Go on</Button>
      <Button size="small" kind="tertiary" disabled={trying} on:click={() => void decide('perform')}>Perform</Button>
      <Button size="small" kind="tertiary" disabled={trying} on:click={() => void decide('simulate')}>Simulate</Button>
      <Button size="small" kind="tertiary" disabled={trying} on:click={() => void decide('skip')}>Skip</Button>
      <Button size="small" kind="tertiary" disabled={trying} on:click={() => void decide('fail')}>Let it fail</Button>
      <label for="answer-status">Answer</label>
      <input id="answer-status" class="control short mono" bind:value={status} />
      <input class="control mono grow" aria-label="Body of the answer, as JSON" placeholder={'{"name": "Havbris"}'} bind:value={answer} />
      <Button size="small" kind="tertiary" disabled={trying} on:click={() => void decide('answer')}>Answer</Button>
      <Button size="small" kind="ghost" disabled={trying} on:click={() => void decide('finish')}>To the end</Button>
      <Button size="small" kind="danger-ghost" disabled={trying} on:click={() => void decide('end')}>End</Button>
    </div>
  </section>
{/if}

<style>
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

  .input,
  .stop {
    padding: 0.75rem;
    display: grid;
    gap: 0.375rem;
    font-size: 0.8125rem;
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

  .clip {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    min-width: 0;
  }

  .names {
    display: grid;
    grid-template-columns: max-content minmax(0, 1fr);
    gap: 0.25rem 0.75rem;
    align-items: center;
    max-height: 14rem;
    overflow: auto;
  }

  .decide {
    flex-wrap: wrap;
  }

  .decide .short {
    width: 4rem;
  }

  .grow {
    flex: 1;
    min-width: 10rem;
  }

  .why {
    color: var(--cds-text-error);
  }
</style>
