<script lang="ts">
  /**
   * A workflow as a sheet: numbered paragraphs, branches indented under their number. With steps of a
   * run it shows in the margin what each did.
   */
  import type { Input, Paragraph, RunDifference, Step } from '../api/types';
  import { branchName } from '../compose/tree';
  import { details, grouped, inputText, result, shownStep, summary } from '../lib/sheet';
  import { block, capital, line } from '../lib/show';
  
  import CopyText from './CopyText.svelte';
  import RunState from './RunState.svelte';

  /** Items of a loop shown when its step is open. */
  const MOST_SHOWN = 20;

  interface Props {
    sheet: Paragraph[];
    inputs?: Input[];
    steps?: Step[];
    /** The input of the run, when there is one. */
    given?: unknown;
    total?: number;
    /** What differs in another run, by the number of the step; steps of it stand below those of the first. */
    other?: { steps: Step[]; differences: Map<string, RunDifference[]>; names: [string, string] };
    /** The number of the paragraph that is open. */
    selected?: string;
    onselect?: (number: string) => void;
  }
  let { sheet, inputs, steps, given, total = 0, other, selected, onselect }: Props = $props();

  const byNumber = $derived(grouped(steps ?? []));
  const others = $derived(grouped(other?.steps ?? []));
</script>

{#snippet did(paragraph: Paragraph, step: Step | undefined, taken: Step[] | undefined)}
  {#if step}
    <span class="row">
      {#if step.state !== 'succeeded' || step.attempts > 1}
        <RunState state={step.state === 'succeeded' ? 'caught' : step.state} label={false} />
      {/if}
      <span>{summary(paragraph, step)}</span>
      {#if taken && taken.length > 1}<span class="dim">× {taken.length}</span>{/if}
    </span>
    <span class="mono clip" class:why={step.failure && step.state !== 'succeeded'}>{result(paragraph, step)}</span>
  {:else}
    <span class="dim">{paragraph.off ? 'off' : 'not reached'}</span>
  {/if}
{/snippet}

<div class="panel sheet" class:annotated={steps !== undefined} role="list" aria-label="Sheet">
  <div class="paragraph plain" role="listitem">
    <div class="number">§</div>
    <div class="body">
      <div><span class="kind">Input</span> <span class="dim">{inputs?.map(inputText).join(', ') ?? ''}</span></div>
    </div>
    {#if steps}<div class="margin"><span class="mono dim clip">{line(given)}</span></div>{/if}
  </div>
  {#each sheet as paragraph (paragraph.number)}
    {@const taken = byNumber.get(paragraph.number)}
    {@const step = shownStep(taken)}
    {@const open = selected === paragraph.number}
    {@const differences = other?.differences.get(paragraph.number) ?? []}
    {@const beside = shownStep(others.get(paragraph.number))}
    {#if paragraph.branch}
      <div class="branch dim" style:padding-left="{3 + 2 * paragraph.depth}rem">
        {branchName(paragraph.branch)}
      </div>
    {/if}
    <div role="listitem">
      <button
        type="button"
        class="paragraph"
        data-number={paragraph.number}
        class:selected={open}
        class:inactive={(steps && !step && !beside) || paragraph.off}
        class:differs={differences.length > 0}
        aria-expanded={steps ? open : undefined}
        style:--indent="{2 * paragraph.depth}rem"
        onclick={() => onselect?.(paragraph.number)}
      >
        <span class="number">{paragraph.number}</span>
        <span class="body">
          <span class="title">
            <span class="kind">{capital(paragraph.kind)}</span>
            <span class="mono">{paragraph.title}</span>
            {#if paragraph.name}<span class="dim">as</span> <span class="mono dim">{paragraph.name}</span>{/if}
            {#if paragraph.off}<span class="dim">(off)</span>{/if}
          </span>
          {#if paragraph.about}<span class="about dim">{paragraph.about}</span>{/if}
          {#if paragraph.when || paragraph.rows?.length}
            <span class="rows">
              {#if paragraph.when}
                <span class="dim">when</span><span class="mono">{paragraph.when}</span>
              {/if}
              {#each paragraph.rows ?? [] as [name, value], at (at)}
                {#if name}<span class="dim">{name}</span>{/if}<span class="mono" class:whole={!name}>{value}</span>
              {/each}
            </span>
          {/if}
        </span>
        {#if steps}
          <span class="margin">
            {#if other}
              <span class="pair"><span class="dim tag">{other.names[0]}</span>{@render did(paragraph, step, taken)}</span>
              <span class="pair"><span class="dim tag">{other.names[1]}</span>{@render did(paragraph, beside, others.get(paragraph.number))}</span>
            {:else}
              {@render did(paragraph, step, taken)}
              {#if step && total > 0}
                <span class="bar" aria-hidden="true">
                  <span
                    style:left="{Math.min(99, (100 * step.started_us) / total)}%"
                    style:width="{Math.max(0.6, (100 * step.duration_us) / total)}%"
                  ></span>
                </span>
              {/if}
            {/if}
          </span>
        {/if}
      </button>
      {#if open && differences.length}
        <div class="details">
          {#each differences as difference, at (at)}
            <p class="difference"><span class="dim">{difference.what}</span> <del>{difference.before}</del> <ins>{difference.now}</ins></p>
          {/each}
        </div>
      {:else if steps && open && taken}
        <div class="details">
          {#each taken.slice(0, MOST_SHOWN) as one, at (at)}
            {#if one.items}
              <div class="row item">
                <span class="mono">[{one.items.split('.').join('][')}]</span>
                <RunState state={one.state} label={false} />
                <span class="dim">{summary(paragraph, one)}</span>
              </div>
            {/if}
            {#each details(one) as [label, value] (label)}
              <div class="detail">
                <div class="row label"><span class="dim">{label}</span><CopyText text={block(value)} label="Copy of step {one.number}: {label}" /></div>
                <pre>{block(value)}</pre>
              </div>
            {:else}
              <span class="dim">This step has no values.</span>
            {/each}
          {/each}
          {#if taken.length > MOST_SHOWN}
            <span class="dim">{taken.length - MOST_SHOWN} more items are not shown here.</span>
          {/if}
        </div>
      {/if}
    </div>
  {/each}
</div>

<style>
  .paragraph {
    display: grid;
    grid-template-columns: calc(3rem + var(--indent, 0rem)) minmax(0, 1fr);
    width: 100%;
    padding: 0.5rem 0.75rem 0.5rem 0;
    border: none;
    border-left: 3px solid transparent;
    border-bottom: 1px solid var(--cds-ui-03);
    background: none;
    color: inherit;
    font: inherit;
    font-size: 0.875rem;
    line-height: 1.25rem;
    text-align: left;
  }

  .annotated .paragraph {
    grid-template-columns: calc(3rem + var(--indent, 0rem)) minmax(0, 1fr) minmax(13rem, 42%);
  }

  button.paragraph {
    cursor: pointer;
  }

  button.paragraph:hover {
    background: var(--cds-hover-ui);
  }

  button.paragraph:focus-visible {
    outline: 2px solid var(--cds-focus);
    outline-offset: -2px;
  }

  .paragraph.selected {
    background: var(--cds-selected-ui);
    border-left-color: var(--cds-interactive-04);
  }

  .paragraph.inactive {
    color: var(--cds-text-02);
    font-style: italic;
  }

  .paragraph.inactive :global(.dim) {
    color: inherit;
  }

  .number {
    font-family: var(--mono);
    color: var(--cds-text-02);
    text-align: right;
    padding-right: 0.875rem;
    font-size: 0.8125rem;
  }

  .inactive .number {
    color: inherit;
  }

  .body,
  .margin {
    min-width: 0;
    display: flex;
    flex-direction: column;
  }

  .title {
    overflow-wrap: anywhere;
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
    padding-right: 0.5rem;
    font-size: 0.75rem;
  }

  .rows .whole {
    grid-column: 1 / -1;
    white-space: pre-wrap;
  }

  .margin {
    border-left: 1px solid var(--cds-ui-03);
    padding-left: 0.75rem;
    font-size: 0.8125rem;
  }

  .clip {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    font-size: 0.75rem;
  }

  .why {
    white-space: normal;
    color: var(--cds-text-error);
  }

  .pair {
    display: grid;
    grid-template-columns: 3.5rem minmax(0, 1fr);
  }

  .pair > :global(:not(.tag)) {
    grid-column: 2;
  }

  .tag {
    font-size: 0.75rem;
  }

  .paragraph.differs {
    border-left-color: var(--changed);
  }

  .difference {
    font-size: 0.75rem;
    overflow-wrap: anywhere;
  }

  .difference del,
  .difference ins {
    font-family: var(--mono);
    text-decoration: none;
    padding: 0 0.125rem;
  }

  .difference del {
    background: color-mix(in srgb, var(--cds-support-01) 14%, transparent);
  }

  .difference ins {
    background: color-mix(in srgb, var(--cds-support-02) 16%, transparent);
  }

  .bar {
    display: block;
    position: relative;
    height: 3px;
    margin-top: 0.25rem;
    background: var(--cds-ui-03);
  }

  .bar span {
    position: absolute;
    top: 0;
    bottom: 0;
    max-width: 100%;
    background: var(--cds-interactive-04);
  }

  .branch {
    font-size: 0.75rem;
    padding-top: 0.25rem;
    font-style: italic;
  }

  .details {
    padding: 0.5rem 0.75rem 0.75rem 3rem;
    border-bottom: 1px solid var(--cds-ui-03);
    border-left: 3px solid var(--cds-interactive-04);
    display: grid;
    gap: 0.5rem;
  }

  .detail pre {
    max-height: 20rem;
    overflow: auto;
    padding: 0.5rem;
    background: var(--cds-field-01);
    font-size: 0.75rem;
    line-height: 1.125rem;
    white-space: pre-wrap;
    overflow-wrap: anywhere;
  }

  .item {
    font-size: 0.8125rem;
  }

  .label {
    justify-content: space-between;
    font-size: 0.8125rem;
  }
</style>
