<script lang="ts">
  /**
   * The cases of a workflow: run again as the draft or the cases change, what they reach on the sheet, what differs at its
   * place, and their text beside it.
   */
  import { Button } from 'carbon-components-svelte';
  import { onMount, tick, untrack } from 'svelte';
  import type { CaseDifference, RehearsedCase, Rehearsal } from '../api/types';
  import { Refused, session } from '../lib/api.svelte';
  import { line, took } from '../lib/show';
  import CopyText from '../parts/CopyText.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import { Composer } from './composer.svelte';
  import { Desk } from './desk.svelte';
  import { marksOf, missedFunctions, missedOf } from './cases';
  import SheetEditor from './SheetEditor.svelte';
  import type SourceEditor from './SourceEditor.svelte';
  import { duplicate, remove } from './tree';

  let { composer }: { composer: Composer } = $props();
  const desk = untrack(() => new Desk(composer));
  const cases = untrack(() => new Composer(composer.name, 'cases'));
  let there = $state<boolean | undefined>(undefined);
  let result = $state.raw<Rehearsal | undefined>(undefined);
  /** The case that is looked at, with what its steps did. */
  let chosen = $state<string | undefined>(undefined);
  let looked = $state.raw<RehearsedCase | undefined>(undefined);
  let error = $state.raw<Refused | undefined>(undefined);
  let running = $state(false);
  let editor: SourceEditor | undefined = $state(undefined);
  let Source = $state.raw<typeof SourceEditor | undefined>(undefined);
  /** The editor loads as soon as somebody turns to the page; before, its text stands there. */
  async function load() {
    Source ??= (await import('./SourceEditor.svelte')).default;
    await tick();
  }

  async function show(number: number) {
    await load();
    editor?.toLine(number);
  }
  let timer: ReturnType<typeof setTimeout> | undefined;
  /** Only the newest answer counts. */
  let round = 0;

  const failed = $derived(result?.cases.filter((one) => !one.passed).length ?? 0);
  const percent = $derived.by(() => {
    const covered = result?.coverage;
    if (!covered) return undefined;
    const all = covered.steps + covered.branches;
    return all ? Math.floor((100 * (covered.steps_reached + covered.branches_reached)) / all) : 100;
  });
  const marks = $derived(looked ? marksOf(looked, composer.steps) : new Map<string, CaseDifference[]>());
  const missed = $derived(missedOf(result?.coverage));
  /** All differences, each with the step that it stands at. */
  const listed = $derived([...marks].flatMap(([number, found]) => found.map((difference) => ({ number, difference }))));

  onMount(() => {
    void cases.load(undefined).then(
      (found) => (there = found),
      (refused) => (error = refused as Refused),
    );
    return () => cases.stop();
  });

  function ask(only: string): Promise<Rehearsal> {
    const documents = [...(composer.question().documents as unknown[]), { path: `cases/${composer.name}.yaml`, text: cases.text }];
    return session.ask<Rehearsal>('POST', '/rehearsals', { workflow: composer.sheet?.name || composer.name, documents, files: composer.files, only });
  }

  async function run() {
    const mine = ++round;
    running = true;
    try {
      const found = await ask('');
      if (mine !== round) return;
      result = found;
      error = undefined;
      if (chosen !== undefined && !found.cases.some((one) => one.name === chosen)) chosen = undefined;
      if (chosen !== undefined) await look(chosen);
    } catch (refused) {
      if (mine === round) error = refused instanceof Refused ? refused : new Refused(0, 'It failed', String(refused));
    } finally {
      if (mine === round) running = false;
    }
  }

  async function look(name: string) {
    chosen = name;
    const found = await ask(name).catch(() => undefined);
    if (chosen === name) looked = found?.cases[0];
  }

  async function choose(one: RehearsedCase) {
    if (chosen === one.name) {
      chosen = undefined;
      looked = undefined;
      return;
    }
    await look(one.name);
    await show(one.line);
  }

  // They run again after each change, once it pauses.
  $effect(() => {
    void composer.text;
    void cases.text;
    if (!there || !cases.loaded) return;
    clearTimeout(timer);
    timer = setTimeout(() => void run(), untrack(() => (result ? 400 : 0)));
  });

  const position = (one: RehearsedCase) => result?.cases.indexOf(one) ?? 0;

  async function begin() {
    await cases.begin(`cases: ${composer.name}\nexamples:\n  - name: it succeeds\n    input: {}\n    expect: {state: succeeded}\n`);
    there = true;
  }

  function key(event: KeyboardEvent) {
    if ((event.ctrlKey || event.metaKey) && event.key === 'Enter') {
      event.preventDefault();
      void run();
    }
  }
</script>

<svelte:window onkeydown={key} />

{#if error}<Trouble {error} />{/if}
{#if there === false}
  <div class="panel empty">
    <p>A case names a request and what is expected of it. It runs offline, on a clock of its own, with stubs for services: before each deploy, and here after each change.</p>
    <p>Make one from what happened: in the margin of a trial on the <a href="/workflows/{composer.name}">sheet</a>, or on the page of a <a href="/workflows/{composer.name}/runs">run</a>. Or:</p>
    <Button size="small" on:click={() => void begin()}>Write the first case</Button>
  </div>
{:else if there}
  <div class="panel bar">
    <Button size="small" kind="tertiary" disabled={running} on:click={() => void run()}>{running ? 'Running …' : 'Run all'} <kbd>Ctrl+Enter</kbd></Button>
    {#if result}
      <span role="status">
        {#if result.cases.length}<strong class:bad={failed > 0} class:good={failed === 0}>{result.cases.length - failed} of {result.cases.length} pass</strong>{:else if !result.diagnostics.length}No cases yet.{/if}
        {#if result.left}<span class="bad">There was no time for {result.left} more.</span>{/if}
      </span>
      {#if result.coverage}
        <span class="dim">{result.coverage.steps_reached} of {result.coverage.steps} steps and {result.coverage.branches_reached} of {result.coverage.branches} branches reached ({percent} %)</span>
      {/if}
      {#if result.diagnostics.some((one) => one.severity === 'error')}<span class="bad">The cases have errors; see their text.</span>{/if}
    {/if}
    <span class="saving dim">{cases.saving === 'none' ? '' : cases.saving === 'saved' ? 'cases saved' : cases.saving === 'failed' ? 'cases not saved' : 'saving …'}</span>
  </div>
  {#each missedFunctions(missed) as [name, lines] (name)}
    <p class="panel notice">{lines.length ? `No case reaches ${lines.join('; ')} of the function` : 'No case calls the function'} <code>{name}</code>.</p>
  {/each}
  {#if cases.conflict}
    <p class="panel notice" role="alert">{cases.conflict.operator} changed the same lines of the cases.
      <button type="button" class="link" onclick={() => void cases.resolve('mine')}>Save mine over theirs</button>
      <button type="button" class="link" onclick={() => void cases.resolve('theirs')}>Take theirs</button></p>
  {/if}
  <div class="columns">
    <div class="whole">
      <ul class="panel cases" aria-label="Cases">
        {#each result?.cases ?? [] as one (one.name + one.line)}
          <li class:chosen={chosen === one.name}>
            <button type="button" class="case" aria-expanded={chosen === one.name} onclick={() => void choose(one)}>
              <span class:good={one.passed} class:bad={!one.passed} aria-hidden="true">{one.passed ? '✓' : '✗'}</span>
              <span class="name">{one.name}<span class="sr">{one.passed ? ', passes' : ', fails'}</span></span>
              <span class="dim">{one.state ?? 'refused'}{one.status ? ` · ${one.status}` : ''} · {took(one.duration_us)}</span>
            </button>
            {#if chosen === one.name}
              <div class="row actions">
                <button type="button" class="link" onclick={() => void look(one.name)}>Run</button>
                <button type="button" class="link" onclick={() => void show(one.line)}>Show its text</button>
                <button type="button" class="link" onclick={() => void cases.change([duplicate(`examples/${position(one)}`)])}>Duplicate</button>
                <button type="button" class="link" onclick={() => void cases.change([remove(`examples/${position(one)}`)])}>Delete</button>
              </div>
              {#each listed as { number, difference }, index (index)}
                <p class="difference">{number ? `Step ${number}: ` : ''}<span class="mono">{difference.what}</span> wanted <ins>{difference.wanted}</ins>, got <del>{difference.got}</del> <button type="button" class="link" onclick={() => void show(difference.line)}>line {difference.line}</button></p>
              {/each}
              {#if one.missing_stubs.length}
                <div class="stubs">
                  <p>No stub answers. Paste under <code>stubs</code>:</p>
                  <div class="row"><pre>{one.missing_stubs.join('\n')}</pre><CopyText text={one.missing_stubs.join('\n')} label="Copy the stubs" /></div>
                </div>
              {/if}
              {#if looked && looked.reply !== null}<p class="mono clip dim">{line(looked.reply)}</p>{/if}
            {/if}
          </li>
        {/each}
      </ul>
      <SheetEditor {composer} {desk} steps={looked?.steps} given={looked?.input} changed={new Map()} stale={false} {marks} {missed} onmark={(at) => void show(at)} />
    </div>
    <!-- svelte-ignore a11y_no_noninteractive_element_interactions, a11y_no_noninteractive_tabindex -->
    <aside onpointerenter={() => void load()} onfocusin={() => void load()}>{#if Source}<Source bind:this={editor} composer={cases} label="Text of the cases" />{:else}<pre class="panel plain" tabindex="0">{cases.text}</pre>{/if}</aside>
  </div>
{:else if !error}
  <p class="dim">Loading …</p>
{/if}

<style>
  .bar {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 0.25rem 0.75rem;
    padding: 0.375rem 0.75rem;
    font-size: 0.8125rem;
    position: sticky;
    top: 3rem;
    z-index: 6;
  }

  .bar :global(.bx--btn) {
    padding: 0 0.75rem;
    min-width: 0;
    gap: 0.5rem;
  }

  kbd {
    font-family: var(--mono);
    font-size: 0.6875rem;
  }

  .saving {
    margin-left: auto;
  }

  .good {
    color: var(--cds-support-02);
  }

  strong.good {
    color: inherit;
  }

  .bad {
    color: var(--cds-text-error);
  }

  .columns {
    display: grid;
    grid-template-columns: minmax(0, 1fr) minmax(0, 0.7fr);
    gap: 0.75rem;
    align-items: start;
    margin-top: 0.5rem;
  }

  .whole {
    display: grid;
    grid-template-columns: minmax(0, 1fr);
    gap: 0.5rem;
    min-width: 0;
  }

  aside {
    position: sticky;
    top: 6.5rem;
    min-width: 0;
  }

  .plain {
    height: calc(100vh - 13rem);
    overflow: auto;
    padding: 0.5rem 0.75rem;
    font-size: 0.75rem;
    line-height: 1.25rem;
  }

  .cases li {
    border-bottom: 1px solid var(--cds-ui-03);
    padding: 0 0.75rem;
    font-size: 0.8125rem;
  }

  .cases li.chosen {
    background: var(--open-paragraph);
    padding-bottom: 0.5rem;
  }

  .case {
    display: grid;
    grid-template-columns: 1.25rem minmax(0, 1fr) max-content;
    gap: 0.25rem;
    width: 100%;
    min-height: 2rem;
    align-items: center;
    border: 0;
    background: none;
    color: inherit;
    font: inherit;
    text-align: left;
    cursor: pointer;
  }

  .case:focus-visible {
    outline: 2px solid var(--cds-focus);
  }

  .actions,
  .difference,
  .stubs,
  .clip {
    padding-left: 1.5rem;
  }

  .clip {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    font-size: 0.75rem;
  }

  .difference {
    font-size: 0.8125rem;
    overflow-wrap: anywhere;
  }

  .difference ins {
    text-decoration: none;
  }

  .stubs pre {
    white-space: pre-wrap;
    font-size: 0.75rem;
    min-width: 0;
  }

  .empty {
    padding: 1.5rem;
    display: grid;
    gap: 0.75rem;
    justify-items: start;
    max-width: 46rem;
    font-size: 0.875rem;
  }

  .notice {
    padding: 0.5rem 0.75rem;
    font-size: 0.8125rem;
  }

  @media (max-width: 66rem) {
    .columns {
      grid-template-columns: minmax(0, 1fr);
    }

    aside {
      position: static;
    }
  }
</style>
