<script lang="ts">
  /** How two texts of a workflow differ: on one sheet, with what was struck out; or line by line. */
  import { InlineLoading } from 'carbon-components-svelte';
  import type { Comparison, Composed, Part } from '../api/types';
  import { type Refused, session } from '../lib/api.svelte';
  import { type ComparedLine, diffLines, inPlace } from '../lib/compare';
  import { capital } from '../lib/show';
  import Trouble from './Trouble.svelte';

  interface Props {
    before: string;
    after: string;
    names: [string, string];
    /** Puts a paragraph of the first text into the second. */
    ontake?: (line: ComparedLine) => void;
  }
  let { before, after, names, ontake }: Props = $props();
  let compared = $state.raw<{ lines: ComparedLine[]; diff: string } | undefined>(undefined);
  let error = $state.raw<Refused | undefined>(undefined);
  let asLines = $state(false);
  let whole = $state(false);

  const parts = (text: string): Promise<Part[]> =>
    session
      .ask<Composed>('POST', '/language/sheet', { path: 'compared.yaml', documents: [{ path: 'compared.yaml', text }] })
      .then((answer) => answer.sheet?.parts ?? []);

  $effect(() => {
    const texts = { before, after };
    Promise.all([session.ask<Comparison>('POST', '/compare', texts), parts(before), parts(after)]).then(
      ([answer, old, now]) => {
        if (texts.before !== before || texts.after !== after) return;
        compared = { lines: inPlace(old, now, answer.steps), diff: answer.diff };
        error = undefined;
      },
      (refused: Refused) => (error = refused),
    );
  });

  const MARKS: Record<ComparedLine['mark'], string> = { added: '+', removed: '−', changed: '~', moved: '~', same: '' };
  const WORDS: Record<ComparedLine['mark'], string> = { added: 'new', removed: 'gone', changed: 'changed', moved: 'moved', same: '' };
  const shown = $derived(compared?.lines.filter((line) => whole || line.mark !== 'same') ?? []);
</script>

<section class="panel" aria-label="Comparison">
  <div class="head">
    <h2>From <span class="mono">{names[0]}</span> to <span class="mono">{names[1]}</span></h2>
    {#if compared && before !== after}
      <label><input type="checkbox" bind:checked={whole} disabled={asLines} /> with what is the same</label>
      <label><input type="checkbox" bind:checked={asLines} /> line by line</label>
    {/if}
  </div>
  {#if error}<Trouble {error} />{/if}
  {#if compared && before === after}
    <p class="dim">They are the same.</p>
  {:else if compared && asLines}
    <!-- The lines scroll by themselves, so they must be reachable by keyboard. -->
    <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
    <pre tabindex="0" role="region" aria-label="Lines that differ">{#each diffLines(compared.diff) as line, index (index)}<span class={line.kind}>{line.text}
</span>{/each}</pre>
  {:else if compared}
    <ul>
      {#each shown as line, index (index)}
        <li class={line.mark} style:--indent="{1.5 * line.part.depth}rem">
          <span class="mark" aria-hidden="true">{MARKS[line.mark]}</span>
          <span class="number mono">{line.mark !== 'removed' && line.old && line.old.number !== line.part.number ? `${line.old.number} → ` : ''}{line.part.number || '§'}</span>
          <div class="body">
            <svelte:element this={line.mark === 'removed' ? 'del' : line.mark === 'added' ? 'ins' : 'span'}>
              <strong>{capital(line.part.kind)}</strong> <span class="mono">{line.part.title}</span>{line.part.name ? ` as ${line.part.name}` : ''}
            </svelte:element>
            {#if WORDS[line.mark]}<span class="dim word">{WORDS[line.mark]}</span>{/if}
            {#if ontake && line.mark !== 'same' && line.mark !== 'moved'}<button type="button" class="link" onclick={() => ontake(line)} aria-label="Take {line.part.number || line.part.kind} of {names[0]}">take {names[0]}</button>{/if}
            {#each line.rows as row (row.key)}
              <div class="difference"><span class="dim">{row.key}</span> {#if row.before}<del>{row.before}</del>{/if} {#if row.after}<ins>{row.after}</ins>{/if}</div>
            {:else}
              {#if line.mark !== 'same' && line.mark !== 'moved'}
                {#each line.part.rows ?? [] as [key, value], at (at)}
                  <div class="difference"><span class="dim">{key}</span> <svelte:element this={line.mark === 'removed' ? 'del' : 'ins'}>{value}</svelte:element></div>
                {/each}
              {/if}
            {/each}
          </div>
        </li>
      {:else}
        <li class="none dim">No paragraph differs; comments or layout do. See it line by line.</li>
      {/each}
    </ul>
  {:else if !error}
    <InlineLoading description="Comparing" />
  {/if}
</section>

<style>
  section {
    margin-top: 0.5rem;
    padding: 0.5rem 0.75rem 0.75rem;
  }

  .head {
    display: flex;
    flex-wrap: wrap;
    gap: 0.25rem 1rem;
    align-items: center;
    font-size: 0.8125rem;
    margin-bottom: 0.25rem;
  }

  h2 {
    font-size: 0.875rem;
    margin-right: auto;
  }

  li {
    display: grid;
    grid-template-columns: 1rem calc(4rem + var(--indent, 0rem)) minmax(0, 1fr);
    padding: 0.25rem 0;
    font-size: 0.8125rem;
    line-height: 1.25rem;
    border-bottom: 1px solid var(--cds-ui-03);
  }

  li.same,
  li.none {
    color: var(--cds-text-02);
  }

  li.none {
    display: block;
  }

  .mark {
    font-weight: 600;
  }

  .number {
    color: var(--cds-text-02);
    text-align: right;
    padding-right: 0.75rem;
  }

  .word {
    font-size: 0.75rem;
    margin-left: 0.5rem;
  }

  .added .mark {
    color: var(--cds-support-02);
  }

  .removed .mark {
    color: var(--cds-support-01);
  }

  .changed .mark,
  .moved .mark {
    color: var(--changed);
  }

  ins,
  del {
    padding: 0 0.125rem;
  }

  ins {
    text-decoration: none;
    background: color-mix(in srgb, var(--cds-support-02) 16%, transparent);
  }

  del {
    background: color-mix(in srgb, var(--cds-support-01) 14%, transparent);
  }

  .difference {
    overflow-wrap: anywhere;
  }

  .difference ins,
  .difference del {
    font-family: var(--mono);
    font-size: 0.75rem;
  }

  pre {
    margin-top: 0.5rem;
    overflow-x: auto;
    max-height: 32rem;
    font-size: 0.75rem;
    line-height: 1.125rem;
  }

  pre span {
    display: block;
    min-height: 1.125rem;
    padding: 0 0.5rem;
  }

  pre .added {
    background: color-mix(in srgb, var(--cds-support-02) 14%, transparent);
  }

  pre .removed {
    background: color-mix(in srgb, var(--cds-support-01) 14%, transparent);
  }

  pre .place {
    color: var(--cds-text-02);
  }
</style>
