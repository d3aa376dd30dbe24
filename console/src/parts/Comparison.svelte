<script lang="ts">
  /** How two texts of a document differ: the steps, then the lines. */
  import { InlineLoading } from 'carbon-components-svelte';
  import type { Comparison } from '../api/types';
  import { type Refused, session } from '../lib/api.svelte';
  import { changeMark, changeNumber, diffLines } from '../lib/compare';
  import Trouble from './Trouble.svelte';

  let { before, after, names }: { before: string; after: string; names: [string, string] } = $props();
  let compared: Comparison | undefined = $state(undefined);
  let error: Refused | undefined = $state(undefined);

  $effect(() => {
    const texts = { before, after };
    compared = undefined;
    session.ask<Comparison>('POST', '/compare', texts).then(
      (answer) => {
        if (texts.before === before && texts.after === after) compared = answer;
      },
      (refused: Refused) => (error = refused),
    );
  });
</script>

<section class="panel" aria-label="Comparison">
  <h2>From <span class="mono">{names[0]}</span> to <span class="mono">{names[1]}</span></h2>
  {#if error}<Trouble {error} />{/if}
  {#if compared && before === after}
    <p class="dim">They are the same.</p>
  {:else if compared}
    <ul class="steps">
      {#each compared.steps as step, index (index)}
        <li class={step.change}>
          <span class="mark" aria-label={step.change}>{changeMark(step)}</span>
          <span class="number mono">{changeNumber(step)}</span>
          <span>{step.title}{step.change === 'moved' ? ' (moved)' : ''}</span>
          {#each step.rows ?? [] as row (row.key)}
            <div class="difference">
              <span class="dim">{row.key}</span>
              <del>{row.before || 'nothing'}</del> → <ins>{row.after || 'nothing'}</ins>
            </div>
          {/each}
        </li>
      {:else}
        <li class="dim">No step differs.</li>
      {/each}
    </ul>
    <!-- The lines scroll by themselves, so they must be reachable by keyboard. -->
    <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
    <pre tabindex="0" role="region" aria-label="Lines that differ">{#each diffLines(compared.diff) as line, index (index)}<span class={line.kind}>{line.text}
</span>{/each}</pre>
  {:else if !error}
    <InlineLoading description="Comparing" />
  {/if}
</section>

<style>
  section {
    margin-top: 1rem;
    padding: 0.75rem 1rem 1rem;
  }

  h2 {
    font-size: 0.875rem;
    margin-bottom: 0.5rem;
  }

  .steps li {
    display: grid;
    grid-template-columns: 1rem 4.5rem minmax(0, 1fr);
    padding: 0.375rem 0;
    font-size: 0.875rem;
    line-height: 1.375rem;
    border-bottom: 1px solid var(--cds-ui-03);
  }

  .mark {
    font-weight: 600;
  }

  .number {
    color: var(--cds-text-02);
  }

  .steps li.dim {
    display: block;
  }

  .added .mark,
  ins {
    color: var(--cds-support-02);
  }

  .removed .mark,
  del {
    color: var(--cds-support-01);
  }

  ins,
  del {
    text-decoration: none;
    font-family: 'IBM Plex Mono', monospace;
    font-size: 0.75rem;
  }

  .difference {
    grid-column: 3;
    overflow-wrap: anywhere;
  }

  pre {
    margin-top: 0.75rem;
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
