<script lang="ts">
  /** The sheet as an editor: paragraphs that unfold in place, lines on which steps are added, a margin of what the last trial did. */
  import { tick } from 'svelte';
  import type { CaseDifference, Diagnostic, End, Part, Step } from '../api/types';
  import { grouped } from '../lib/sheet';
  import { capital, count, time, took } from '../lib/show';
  import { zone } from '../lib/zone.svelte';
  import { act } from './actions';
  import AddLine from './AddLine.svelte';
  import type { Composer } from './composer.svelte';
  import type { Desk } from './desk.svelte';
  import Findings from './Findings.svelte';
  import Margin from './Margin.svelte';
  import Menu from './Menu.svelte';
  import { whyNot } from './samples';
  import { branchName, owner, parent, position, within } from './tree';

  interface Props {
    composer: Composer;
    desk: Desk;
    /** Steps of a trial by number. */
    steps: Step[] | undefined;
    /** The input of the trial. */
    given?: unknown;
    /** Paragraphs that differ from what is live, by number. */
    changed: Map<string, string>;
    /** Whether the trial is of another text. */
    stale: boolean;
    /** What a case did not find as expected, by number. */
    marks?: Map<string, CaseDifference[]>;
    /** What no case reaches, by number: branches, or none for a whole step. */
    missed?: Map<string, string[]>;
    /** Shows a line of the cases. */
    onmark?: (line: number) => void;
  }
  let { composer, desk, steps, given, changed, stale, marks, missed, onmark }: Props = $props();

  let box: HTMLElement | undefined = $state(undefined);
  /** Forms bring the editor of expressions along, which loads as soon as somebody turns to the sheet. */
  let Form = $state.raw<typeof import('./Form.svelte').default | undefined>(undefined);
  function load() {
    if (!Form) void import('./Form.svelte').then((found) => (Form = found.default));
  }
  $effect(() => {
    if (composer.open !== undefined) load();
  });
  let dragged: string | undefined = $state(undefined);
  let over: string | undefined = $state(undefined);

  const parts = $derived(composer.sheet?.parts ?? []);
  const day = $derived(desk.margin === 'day');
  const margin = $derived(day || steps !== undefined);
  const taken = $derived(grouped(steps ?? []));
  const mono = new Set(['call', 'if', 'match', 'each', 'invoke', 'enqueue', 'sql', 'file', 'endpoint', 'webhook', 'change', 'timetable', 'every', 'note', 'pause', 'reply', 'fail', 'cancel', 'await', 'wake', 'progress']);
  const words: Record<string, string> = { endpoint: 'Endpoint', webhook: 'Webhook', change: 'Changed row of', input: 'Input', functions: 'Functions', queue: 'As a job', replies: 'Replies', timetable: 'Timetable', every: 'Every' };

  /** The findings of each paragraph: those whose innermost paragraph it is. */
  const byPart = $derived.by(() => {
    const out = new Map<string, Diagnostic[]>();
    for (const finding of composer.findings) {
      const around = parts.filter((part) => part.range.start <= finding.start && finding.start <= part.range.end);
      const best = around.sort((a, b) => a.range.end - a.range.start - (b.range.end - b.range.start))[0];
      const at = best?.at ?? 'head';
      out.set(at, [...(out.get(at) ?? []), finding]);
    }
    return out;
  });

  /** The ends drawn behind a paragraph: those of the open one that are not there yet, and all that are. */
  const endsOf = (index: number): End[] =>
    (composer.sheet?.ends ?? []).filter(
      (end) => end.behind === index && end.depth > 0 && (!end.offered || composer.open === owner(parent(end.at)) || desk.adding === end.at),
    );
  const lastEnd = $derived(composer.sheet?.ends.find((end) => end.depth === 0 && end.at.startsWith('steps/')));
  /** The end of the steps that run when the run fails, and whether there are any. */
  const closing = $derived(composer.sheet?.ends.find((end) => end.at.startsWith('on_failure/')));
  const closes = $derived(parts.some((part) => part.at.startsWith('on_failure/')));

  /** The number that a step would have at a place. */
  function numberAt(at: string): string {
    const here = position(at);
    if (!here) return '';
    const before = composer.steps.find((step) => step.at === `${here.list}/${here.at - 1}`)?.number;
    const same = composer.steps.find((step) => step.at === at)?.number;
    if (same) return same;
    if (before) return before.replace(/\d+$/, (last) => String(Number(last) + 1));
    const around = composer.steps.find((step) => step.at === owner(here.list))?.number;
    if (!around) return '1';
    const inside = composer.steps.filter((step) => within(step.at, owner(here.list)) && step.number.startsWith(`${around}.`)).length;
    return `${around}.${inside + 1}`;
  }

  const rowOf = (at: string) => box?.querySelector<HTMLElement>(`[data-at="${CSS.escape(at)}"] .row-focus`);

  $effect(() => {
    const wanted = desk.wanted;
    const open = composer.form?.at;
    if (!wanted || open === undefined || !Form) return;
    void tick().then(() => {
      const place = wanted === 'head' ? '' : wanted;
      if (!within(place, open === '' ? 'head' : open) && place !== open) return;
      desk.wanted = undefined;
      const form = box?.querySelector<HTMLElement>(`[data-form="${CSS.escape(open || 'head')}"]`);
      const named = form?.querySelector<HTMLElement>(`[data-field="${CSS.escape(place)}"] :is(.cm-content, input.plain, textarea, select)`);
      const values = [...(form?.querySelectorAll<HTMLElement>('.cm-content') ?? [])];
      const empty = form?.querySelector<HTMLElement>('[data-empty=required] .cm-content') ?? form?.querySelector<HTMLElement>('[data-empty] .cm-content');
      const plain = [...(form?.querySelectorAll<HTMLElement>('input:not([type]), textarea, select') ?? [])];
      (named ?? empty ?? values[0] ?? plain[0])?.focus();
      form?.scrollIntoView({ block: 'nearest' });
    });
  });

  $effect(() => {
    const at = desk.selected;
    if (!at) return;
    void tick().then(() => {
      rowOf(at)?.focus();
      if (desk.selected === at) desk.selected = undefined;
    });
  });

  let current = $state('');
  const roving = $derived(parts.some((part) => part.at === current) ? current : (parts[0]?.at ?? ''));

  async function toggle(at: string) {
    if (composer.open === at) {
      await composer.unfold(undefined);
      desk.selected = at;
    } else {
      desk.values = undefined;
      desk.focused = undefined;
      await composer.unfold(at);
      desk.wanted = at;
    }
  }

  function key(event: KeyboardEvent, part: Part) {
    const step = part.number !== '';
    const all = parts.map((one) => one.at);
    const here = all.indexOf(part.at);
    const go = (at: string | undefined) => at !== undefined && rowOf(at)?.focus();
    const mod = event.ctrlKey || event.metaKey;
    const does = (id: string) => step && void act(desk, part, id);
    if (!event.shiftKey && !mod && ['ArrowDown', 'ArrowUp', 'Home', 'End', 'Enter', 'Escape'].includes(event.key)) desk.picked = [];
    if (event.altKey && event.key === 'ArrowUp') does('up');
    else if (event.altKey && event.key === 'ArrowDown') does('down');
    else if (event.altKey && event.key === 'ArrowRight') does('in');
    else if (event.altKey && event.key === 'ArrowLeft') does('out');
    else if (event.shiftKey && step && (event.key === 'ArrowDown' || event.key === 'ArrowUp')) {
      const place = position(part.at);
      const next = place && `${place.list}/${place.at + (event.key === 'ArrowDown' ? 1 : -1)}`;
      if (next && composer.part(next)) {
        desk.pickTo(part.at, next);
        go(next);
      }
    } else if (event.key === 'ArrowDown') go(all[here + 1]);
    else if (event.key === 'ArrowUp') go(all[here - 1]);
    else if (event.key === 'Home') go(all[0]);
    else if (event.key === 'End') go(all.at(-1));
    else if (event.key === 'Enter' && event.shiftKey) does('until');
    else if ((event.key === 'Enter' && !mod) || event.key === ' ') void toggle(part.at);
    else if (mod && event.key.toLowerCase() === 'd') does('duplicate');
    else if (mod && event.key === '/') does('off');
    else if (mod && event.key.toLowerCase() === 'c') does('copy');
    else if (mod && event.key.toLowerCase() === 'x') does('cut');
    else if (mod && event.key.toLowerCase() === 'v') does('paste');
    else if (event.key === 'Delete') does('delete');
    else if (event.key === 'Insert') does(event.shiftKey ? 'above' : 'below');
    else if (event.key.toLowerCase() === 'n' && !mod) does('note');
    else if (event.key === 'ContextMenu' || (event.shiftKey && event.key === 'F10') || event.key === 'm') desk.menu = step ? part.at : undefined;
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  function escape(event: KeyboardEvent) {
    if (event.key === 'Escape' && composer.open !== undefined && !event.defaultPrevented) {
      const at = composer.open;
      event.preventDefault();
      void composer.unfold(undefined).then(() => (desk.selected = at));
    }
  }

  function drop(event: DragEvent, at: string) {
    event.preventDefault();
    const from = dragged;
    dragged = undefined;
    over = undefined;
    if (from && from !== at && !within(at, from)) void desk.moveStep(from, at);
  }

  function dragOver(event: DragEvent, at: string) {
    if (!dragged || within(at, dragged)) return;
    event.preventDefault();
    over = at;
  }

  const headOpen = $derived(composer.open === 'head');
</script>

{#snippet last(end: End)}
  <div class:over={over === end.at} role="presentation" ondragover={(event) => dragOver(event, end.at)} ondrop={(event) => drop(event, end.at)}>
    <AddLine {desk} at={end.at} number={numberAt(end.at)} depth={0} stays />
  </div>
{/snippet}

{#snippet gap(at: string, depth: number, label: string)}
  {#if desk.adding === at}
    <AddLine {desk} {at} number={numberAt(at)} {depth} />
  {:else}
    <div class="end" role="listitem" style:--indent="{2 * depth}rem" class:over={over === at} ondragover={(event) => dragOver(event, at)} ondrop={(event) => drop(event, at)}>
      {#if label}<span class="dim branch-name">{label}</span>{/if}
      <button type="button" class="add" onclick={() => (desk.adding = at)} aria-label="Add a step at {numberAt(at)}">+ <span class="add-text">{label ? 'add a step' : `add ${numberAt(at)}`}</span></button>
    </div>
  {/if}
{/snippet}

<div class="whole">
  {#if composer.live !== undefined && !missed}
    <div class="panel choice">
      <label for="margin">Margin</label>
      <select id="margin" class="control" bind:value={desk.margin} onchange={() => day && void desk.loadDay()}>
        <option value="trial">last trial</option>
        <option value="day">last 24 hours, live</option>
      </select>
    </div>
  {/if}
<!-- svelte-ignore a11y_no_noninteractive_element_interactions -->
<div class="panel sheet" class:annotated={margin} role="list" aria-label="Sheet" bind:this={box} onkeydown={escape} onpointerenter={load} onfocusin={load}>
  {#if headOpen}
    <div class="paragraph open" role="listitem" data-at="head">
      <span class="number">§</span>
      <div class="body"><div class="title"><span class="kind">Purpose</span></div>{#if Form}<Form {composer} {desk} findings={byPart.get('head') ?? []} />{/if}</div>
      {#if margin}<div class="margin"></div>{/if}
    </div>
  {/if}
  {#each parts as part, index (part.at)}
    {@const step = part.number !== ''}
    {@const open = composer.open === part.at}
    {@const found = byPart.get(part.at) ?? []}
    {@const note = changed.get(step ? part.number : part.at)}
    {#if part.branch}
      <div class="branch dim" role="presentation" style:padding-left="{3.25 + 2 * part.depth}rem">{branchName(part.branch)}</div>
    {/if}
    {#if step && desk.adding === part.at}<AddLine {desk} at={part.at} number={part.number} depth={part.depth} />{/if}
    <div class="paragraph" role="listitem" data-at={part.at} class:open class:off={part.off} class:changed={note !== undefined} class:over={over === part.at} style:--indent="{2 * part.depth}rem"
      class:dragged={dragged === part.at} class:picked={desk.picked.includes(part.at)} aria-current={desk.picked.includes(part.at) || undefined}
      ondragover={(event) => step && position(part.at) && dragOver(event, part.at)} ondrop={(event) => drop(event, part.at)}>
      {#if step}
        <button type="button" class="number" tabindex="-1" draggable={position(part.at) !== undefined} aria-label="Step {part.number}: menu" aria-haspopup="menu" aria-expanded={desk.menu === part.at}
          ondragstart={(event) => { dragged = part.at; event.dataTransfer?.setData('text/plain', part.at); }} ondragend={() => { dragged = undefined; over = undefined; }}
          onclick={(event) => { if (event.shiftKey && current) desk.pickTo(current, part.at); else desk.menu = desk.menu === part.at ? undefined : part.at; }}>{part.number}</button>
        {#if position(part.at)}<button type="button" class="before" tabindex="-1" aria-label="Insert a step before {part.number}" onclick={() => (desk.adding = part.at)}>+</button>{/if}
      {:else}
        <span class="number" aria-hidden="true">{['endpoint', 'webhook', 'change', 'timetable', 'every'].includes(part.kind) ? 'Entry' : '§'}</span>
      {/if}
      {#if desk.menu === part.at}<Menu {desk} {part} onclose={() => { desk.menu = undefined; rowOf(part.at)?.focus(); }} />{/if}
      <div class="body">
        <button type="button" class="row-focus title" tabindex={roving === part.at ? 0 : -1} aria-expanded={open} onfocus={() => (current = part.at)} onclick={() => void toggle(part.at)} onkeydown={(event) => key(event, part)}>
          <span class="kind">{words[part.kind] ?? (capital(part.kind) || 'Empty step')}</span>
          {#if !open || part.kind !== 'if'}<span class:mono={mono.has(part.kind)}>{part.title}</span>{/if}
          {#if part.name}<span class="dim">as</span> <span class="mono dim">{part.name}</span>{/if}
          {#if part.off}<span class="dim">(off)</span>{/if}
          {#if !open}{#each part.notes ?? [] as text (text)}<span class="dim note">{' · '}{text}</span>{/each}{/if}
          {#if note}<span class="sr">, {note}</span>{/if}
          {#if found.length}<span class="sr">, {found.length} findings</span>{/if}
          {#if desk.picked.includes(part.at)}<span class="sr">, picked with {desk.picked.length - 1} more</span>{/if}
        </button>
        {#if !open}
          {#if composer.due[part.at]}<div class="about dim">next: {composer.due[part.at]?.map(time).join(' · ')} {zone.name}</div>{/if}
          {#if part.about}<div class="about dim">{part.about}</div>{/if}
          {#if part.rows?.length}
            <div class="rows">
              {#each part.rows as [name, value], at (at)}
                {#if name}<span class="dim">{name}</span>{/if}<span class="mono" class:whole={!name} class:words={part.kind === 'input'}>{value}</span>
              {/each}
            </div>
          {/if}
          <Findings {composer} findings={found} />
          {#each (step && marks?.get(part.number)) || [] as mark, index (index)}
            <p class="mark"><span class="mono">{mark.what}</span> wanted <ins>{mark.wanted}</ins>, got <del>{mark.got}</del> <button type="button" class="link" onclick={() => onmark?.(mark.line)}>line {mark.line}</button></p>
          {/each}
          {#if step && missed?.has(part.number)}
            <p class="missed">{missed.get(part.number)?.length ? `No case takes: ${missed.get(part.number)?.join(', ')}` : 'No case gets here'}</p>
          {/if}
        {:else if composer.form?.at === part.at && Form}
          <Form {composer} {desk} findings={composer.findings.filter((one) => part.range.start <= one.start && one.start <= part.range.end)} />
        {/if}
      </div>
      {#if margin}
        <div class="margin" class:stale={stale && !day}>
          {#if day}
            {@const counted = step ? desk.dayOf(part)?.counted : part.kind === 'input' ? desk.day?.runs : undefined}
            {#if counted?.runs}
              <span>{count(counted.runs)} {counted.runs === 1 ? 'run' : 'runs'}{#if counted.failures}<span class="failures">, {count(counted.failures)} failed</span>{/if}</span>
              <span class="dim small">p50 {took(counted.p50_us)} · p95 {took(counted.p95_us)}</span>
            {:else if step}<span class="dim">{desk.dayOf(part) || composer.text === composer.live ? 'not taken' : desk.day ? 'not live' : ''}</span>{/if}
          {:else if step}
            <Margin {part} taken={taken.get(part.number)} {open} why={taken.has(part.number) ? '' : whyNot(part, composer.steps, taken)} />
          {:else if part.kind === 'input'}
            <span class="rows inputs">{#each part.rows ?? [] as [name] (name)}<span class="mono clip">{JSON.stringify((given as Record<string, unknown> | null)?.[name]) ?? ''}</span>{/each}</span>
          {/if}
        </div>
      {/if}
    </div>
    {#each endsOf(index) as end (end.at)}
      {@render gap(end.at, end.depth, branchName(end.branch))}
    {/each}
    {#if closes && lastEnd?.behind === index}{@render last(lastEnd)}{/if}
  {/each}
  {#if lastEnd && !closes}{@render last(lastEnd)}{/if}
  {#if closing && (closes || composer.steps.length > 0)}{@render gap(closing.at, 0, branchName(closing.branch))}{/if}
</div>
</div>

<style>
  .paragraph {
    position: relative;
    display: grid;
    grid-template-columns: calc(3.25rem + var(--indent, 0rem)) minmax(0, 1fr);
    padding: 0.375rem 0.75rem 0.375rem 0;
    border-left: 4px solid transparent;
    border-bottom: 1px solid var(--cds-ui-03);
    font-size: 0.875rem;
    line-height: 1.25rem;
  }

  .mark {
    font-size: 0.8125rem;
    color: var(--cds-text-error);
    overflow-wrap: anywhere;
  }

  .mark ins,
  .mark del {
    font-family: var(--mono);
    font-size: 0.75rem;
    color: var(--cds-text-01);
  }

  .mark ins {
    text-decoration: none;
  }

  .missed {
    font-size: 0.75rem;
    color: var(--warning-text);
  }

  .paragraph.picked {
    background: var(--cds-selected-ui);
  }

  .annotated .paragraph {
    grid-template-columns: calc(3.25rem + var(--indent, 0rem)) minmax(0, 1fr) minmax(9rem, 28%);
  }

  .paragraph,
  .paragraph :global(.field) {
    scroll-margin: 4rem 0 1rem;
  }

  .paragraph.changed {
    border-left-color: var(--changed);
  }

  .paragraph.open {
    background: var(--open-paragraph);
  }

  .paragraph.off .body,
  .dragged {
    opacity: 0.75;
  }

  .over {
    box-shadow: inset 0 2px var(--cds-interactive-01);
  }

  .number {
    justify-self: end;
    align-self: start;
    font-family: var(--mono);
    font-size: 0.8125rem;
    color: var(--cds-text-02);
    border: 0;
    background: none;
    padding: 0.125rem 0.375rem;
    margin-right: 0.5rem;
    min-height: 1.5rem;
    line-height: 1.25rem;
  }

  button.number {
    cursor: pointer;
  }

  button.number:hover,
  button.number[aria-expanded='true'] {
    background: var(--cds-ui-03);
    color: var(--cds-text-01);
  }

  .before {
    position: absolute;
    left: calc(0.125rem + var(--indent, 0rem));
    top: -0.75rem;
    width: 1.5rem;
    height: 1.5rem;
    border-radius: 50%;
    border: 1px solid var(--cds-interactive-01);
    background: var(--cds-ui-01);
    color: var(--cds-link-01);
    cursor: pointer;
    z-index: 2;
    opacity: 0;
  }

  .paragraph:hover > .before,
  .before:focus-visible {
    opacity: 1;
  }

  .body {
    min-width: 0;
  }

  .title {
    display: block;
    width: 100%;
    border: 0;
    background: none;
    color: inherit;
    font: inherit;
    text-align: left;
    padding: 0.125rem 0;
    cursor: pointer;
    overflow-wrap: anywhere;
  }

  .title:focus-visible {
    outline: 2px solid var(--cds-focus);
    outline-offset: 0;
  }

  .kind {
    font-weight: 600;
  }

  .note {
    font-size: 0.75rem;
  }

  .about {
    font-size: 0.8125rem;
  }

  .rows {
    display: grid;
    grid-template-columns: minmax(4.5rem, max-content) minmax(0, 1fr);
    column-gap: 0.75rem;
    font-size: 0.8125rem;
    line-height: 1.125rem;
  }

  .rows .mono {
    overflow-wrap: anywhere;
    font-size: 0.75rem;
  }

  .rows .whole {
    grid-column: 1 / -1;
    white-space: pre-wrap;
  }

  .rows .words {
    font-family: inherit;
    font-size: 0.8125rem;
  }

  .rows.inputs {
    grid-template-columns: minmax(0, 1fr);
    padding-top: 1.5rem;
  }

  .margin {
    min-width: 0;
    border-left: 1px solid var(--cds-ui-03);
    padding-left: 0.75rem;
    font-size: 0.8125rem;
  }

  .choice {
    display: flex;
    justify-content: flex-end;
    align-items: center;
    gap: 0.5rem;
    padding: 0.125rem 0.75rem;
    font-size: 0.75rem;
    border-bottom: 0;
  }

  .whole {
    min-width: 0;
  }

  .choice .control {
    height: 1.75rem;
    font-size: 0.75rem;
  }

  .small {
    display: block;
    font-size: 0.75rem;
  }

  .failures {
    color: var(--cds-text-error);
  }

  .stale {
    color: var(--cds-text-02);
    font-style: italic;
  }

  .clip {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    font-size: 0.75rem;
  }

  .branch {
    font-size: 0.75rem;
    padding-top: 0.25rem;
    font-style: italic;
  }

  .end {
    padding-left: calc(3.25rem + var(--indent));
    min-height: 1.5rem;
    display: flex;
    gap: 0.5rem;
    align-items: center;
    border-bottom: 1px solid var(--cds-ui-03);
  }

  .branch-name {
    font-size: 0.75rem;
    font-style: italic;
  }

  .add {
    border: 0;
    background: none;
    color: var(--cds-link-01);
    min-height: 1.5rem;
    min-width: 1.5rem;
    padding: 0 0.25rem;
    font: inherit;
    font-size: 0.75rem;
    cursor: pointer;
  }

  .add:hover {
    text-decoration: underline;
  }
</style>
