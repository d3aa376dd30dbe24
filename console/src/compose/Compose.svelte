<script lang="ts">
  /** The composing page: the sheet, beside it values or source; trying above it, saving by itself. */
  import { Button } from 'carbon-components-svelte';
  import { onMount, tick, untrack } from 'svelte';
  import type { Comparison, Composed } from '../api/types';
  import { session } from '../lib/api.svelte';
  import type { ComparedLine } from '../lib/compare';
  import { placeOf } from '../lib/handbook';
  import { router } from '../lib/router.svelte';
  import Compared from '../parts/Comparison.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import type { Composer } from './composer.svelte';
  import { Desk } from './desk.svelte';
  import Picker from './Picker.svelte';
  import SheetEditor from './SheetEditor.svelte';
  import type SourceEditor from './SourceEditor.svelte';
  import { insert, remove, set } from './tree';
  import TryBar from './TryBar.svelte';

  let { composer, source, comparing }: { composer: Composer; source: boolean; comparing: boolean } = $props();
  const desk = untrack(() => new Desk(composer));
  let bar: TryBar | undefined = $state(undefined);
  let editor: SourceEditor | undefined = $state(undefined);
  let Source = $state.raw<typeof SourceEditor | undefined>(undefined);
  $effect(() => {
    if (source && !Source) void import('./SourceEditor.svelte').then((found) => (Source = found.default));
  });
  let differences: Comparison | undefined = $state.raw(undefined);
  let timer: ReturnType<typeof setTimeout> | undefined;

  /** What differs from live, by the number of the step. */
  const changed = $derived.by(() => {
    const out = new Map<string, string>();
    for (const step of differences?.steps ?? []) if (step.after) out.set(step.after, step.change === 'added' ? 'new' : step.change);
    return out;
  });

  $effect(() => {
    const texts = { before: composer.live ?? '', after: composer.text };
    clearTimeout(timer);
    if (composer.live === undefined || texts.before === texts.after) {
      differences = undefined;
      return;
    }
    timer = setTimeout(() => {
      session.ask<Comparison>('POST', '/compare', texts).then((found) => (differences = found), () => undefined);
    }, 400);
  });

  // The open paragraph is part of the address.
  $effect(() => {
    const open = composer.open ?? '';
    untrack(() => {
      if ((router.query.get('at') ?? '') !== open) router.filter('at', open);
    });
  });

  $effect(() => {
    const part = composer.open && composer.part(composer.open);
    if (part && editor) editor.reveal(part.range.start, part.range.end);
  });

  let last = -1;
  async function nextFinding() {
    const found = [...composer.findings].sort((a, b) => a.start - b.start);
    if (!found.length) return;
    last = (last + 1) % found.length;
    const finding = found[last];
    if (!finding) return;
    const around = (composer.sheet?.parts ?? []).filter((part) => part.range.start <= finding.start && finding.start <= part.range.end);
    const part = around.sort((a, b) => a.range.end - a.range.start - (b.range.end - b.range.start))[0];
    if (!part) {
      await composer.unfold('head');
      return;
    }
    if (composer.open !== part.at) await composer.unfold(part.at);
    await tick();
    const invalid = document.querySelector<HTMLElement>(`[data-form="${CSS.escape(part.at)}"] [aria-invalid='true']`);
    if (invalid) invalid.focus();
    else desk.selected = part.at;
  }

  function key(event: KeyboardEvent) {
    const mod = event.ctrlKey || event.metaKey;
    const typing = event.target instanceof Element && event.target.closest('input, textarea, .cm-editor') !== null;
    if (mod && event.key === 'Enter') void bar?.attempt();
    else if (event.key === 'F8') void nextFinding();
    else if (mod && !typing && event.key.toLowerCase() === 'z') void (event.shiftKey ? composer.redo() : composer.undo());
    else if (mod && !typing && event.key.toLowerCase() === 'y') void composer.redo();
    else return;
    event.preventDefault();
  }

  onMount(() => {
    const at = router.query.get('at');
    if (at && (at === 'head' || composer.part(at))) void composer.unfold(at);
    const leaving = (event: BeforeUnloadEvent) => {
      if (composer.saving === 'unsaved' || composer.saving === 'saving') event.preventDefault();
    };
    window.addEventListener('beforeunload', leaving);
    return () => window.removeEventListener('beforeunload', leaving);
  });

  /** Puts a paragraph of another author's text into the draft. */
  async function take(theirs: string, line: ComparedLine) {
    if (line.mark === 'added') {
      await composer.change([remove(line.part.at)]);
      return;
    }
    const at = line.old?.at;
    if (at === undefined) return;
    const path = 'theirs.yaml';
    const { form } = await session.ask<Composed>('POST', '/language/sheet', { path, documents: [{ path, text: theirs }], at });
    if (!form) return;
    await composer.change([line.mark === 'removed' && line.part.number ? insert(at, form.source) : set(line.part.at, form.source)]);
  }

  function placed(at: string) {
    if (composer.open !== at && !composer.unreadable) void composer.unfold(at);
  }
</script>

<svelte:window onkeydown={key} />

<div class="compose">
  <TryBar bind:this={bar} {composer} {desk} onnext={() => void nextFinding()} />
  {#if composer.conflict}
    {@const conflict = composer.conflict}
    <section class="panel notice" aria-label="Conflict">
      <p><strong>{conflict.operator} saved this draft and changed the same lines.</strong> Your text is kept here until you decide.</p>
      <div class="row">
        <Button size="small" on:click={() => void composer.resolve('mine')}>Save mine over theirs</Button>
        <Button size="small" kind="tertiary" on:click={() => void composer.resolve('theirs')}>Take theirs</Button>
      </div>
      <Compared before={conflict.current} after={composer.text} names={[`${conflict.operator}'s`, 'yours']} ontake={(line) => void take(conflict.current, line)} />
    </section>
  {/if}
  {#if composer.news}
    <p class="panel notice" role="status">{composer.news} <button type="button" class="link" onclick={() => (composer.news = '')}>Close</button></p>
  {/if}
  {#if desk.said}
    <p class="panel notice" role="status">{desk.said} <button type="button" class="link" onclick={() => (desk.said = '')}>Close</button></p>
  {/if}
  {#if composer.error}<Trouble error={composer.error} />{/if}
  {#if comparing && composer.live !== undefined}
    <Compared before={composer.live} after={composer.text} names={[`${composer.name}@${composer.liveRevision}`, `${composer.name}@draft`]} />
  {/if}
  <div class="columns" class:source>
    <SheetEditor {composer} {desk} steps={desk.trial?.steps} given={desk.trial?.input} {changed} stale={desk.trial !== undefined && desk.tried !== composer.text} />
    <aside>
      {#if source && Source}<Source bind:this={editor} {composer} onplace={placed} />{/if}
      <Picker {desk} />
      {#if composer.form}
        <section class="panel about" aria-label="About">
          {#if composer.form.about}<pre>{composer.form.about.replace(/[`*]/g, '').replace(/\n{3,}/g, '\n\n').trim()}</pre>{/if}
          <a href={placeOf(composer.form.kind)} target="_blank" rel="noopener">{composer.form.kind || 'The language'} in the handbook</a>
        </section>
      {/if}
      {#if !source && !desk.values && !composer.form}
        <section class="panel keys dim" aria-label="Keys">
          <p>Click a paragraph to unfold it, its number for what can be done with it.</p>
          <dl>
            <dt>↑ ↓ · Enter · Esc</dt><dd>go, unfold, fold</dd>
            <dt>Insert</dt><dd>add a step below</dd>
            <dt>Alt + arrows</dt><dd>move, into and out of branches</dd>
            <dt>Shift + ↑ ↓</dt><dd>pick several</dd>
            <dt>Ctrl+Z · Ctrl+Shift+Z</dt><dd>undo, redo</dd>
            <dt>Ctrl+Enter</dt><dd>try all</dd>
            <dt>F8</dt><dd>next finding</dd>
          </dl>
        </section>
      {/if}
    </aside>
  </div>
</div>

<style>
  .compose {
    display: grid;
    gap: 0.5rem;
  }

  .columns {
    display: grid;
    grid-template-columns: minmax(0, 1fr) 21rem;
    gap: 0.75rem;
    align-items: start;
  }

  .columns.source {
    grid-template-columns: minmax(0, 1fr) minmax(0, 0.85fr);
  }

  aside {
    display: grid;
    gap: 0.75rem;
    position: sticky;
    top: 6.5rem;
    min-width: 0;
  }

  .about a {
    display: inline-block;
    padding: 0.375rem 0.75rem;
    font-size: 0.75rem;
  }

  .about pre {
    white-space: pre-wrap;
    font-family: inherit;
    font-size: 0.75rem;
    line-height: 1.125rem;
    padding: 0.5rem 0.75rem;
  }

  .keys {
    font-size: 0.75rem;
    padding: 0.75rem;
  }

  .keys p {
    font-size: 0.75rem;
    line-height: 1rem;
  }

  .keys dl {
    display: grid;
    grid-template-columns: max-content minmax(0, 1fr);
    gap: 0.125rem 0.75rem;
    padding-top: 0.5rem;
  }

  .keys dt {
    font-family: var(--mono);
  }

  .notice {
    padding: 0.5rem 0.75rem;
    font-size: 0.8125rem;
  }

  @media (max-width: 66rem) {
    .columns,
    .columns.source {
      grid-template-columns: minmax(0, 1fr);
    }

    aside {
      position: static;
    }
  }
</style>
