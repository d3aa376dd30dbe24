<script lang="ts">
  /** Past runs answered again by the draft, from what they recorded: which would be answered otherwise, and how. */
  import { Button } from 'carbon-components-svelte';
  import type { Retrace } from '../api/types';
  import type { Composer } from '../compose/composer.svelte';
  import { Refused, session } from '../lib/api.svelte';
  import { clock } from '../lib/show';
  import Trouble from './Trouble.svelte';

  let { composer }: { composer: Composer } = $props();
  const workflow = $derived(composer.name);
  const drafted = $derived(composer.text !== composer.live);
  let last = $state(100);
  let found = $state.raw<Retrace | undefined>(undefined);
  let error = $state.raw<Refused | undefined>(undefined);
  let busy = $state(false);

  async function answer() {
    busy = true;
    error = undefined;
    try {
      found = await session.ask<Retrace>('POST', '/retraces', {
        documents: composer.question().documents,
        files: composer.files,
        runs: { workflow, limit: last },
      });
    } catch (refused) {
      error = refused instanceof Refused ? refused : new Refused(0, 'It failed', String(refused));
    } finally {
      busy = false;
    }
  }

  const all = $derived(found ? found.same + found.differs + found.diverged + found.skipped : 0);
</script>

<section class="panel" aria-label="Past runs answered again">
  <div class="row head">
    <span>Answer the last</span>
    <label class="sr" for="retrace-last">Number of runs</label>
    <select id="retrace-last" class="control" bind:value={last}>{#each [20, 100, 500] as n (n)}<option value={n}>{n}</option>{/each}</select>
    <span>runs again with {drafted ? 'the draft' : 'what is live'}, from what they recorded. Nothing is performed.</span>
    <Button size="small" kind="tertiary" disabled={busy} on:click={() => void answer()}>{busy ? 'Answering …' : 'Answer them'}</Button>
  </div>
  {#if error}<Trouble {error} />{/if}
  {#if found}
    <p role="status"><strong>{found.same} of {all} are answered as before</strong>{#if found.differs}, {found.differs} differ{/if}{#if found.diverged}, {found.diverged} ask for something that is not recorded{/if}{#if found.skipped}, {found.skipped} are recorded incompletely{/if}.{#if found.more} Older ones were not reached in time.{/if}</p>
    {#if found.runs.length}
      <table class="table">
        <thead><tr><th>Run</th><th>Verdict</th><th>What differs</th><th><span class="sr">On the sheet</span></th></tr></thead>
        <tbody>
          {#each found.runs as run (run.id)}
            <tr>
              <td><a href="/runs/{run.id}" title={run.id}>{clock(run.started)}</a> <span class="dim">revision {run.revision}</span></td>
              <td>{run.verdict}</td>
              <td>
                {#if run.why}<p>{run.why}</p>{/if}
                {#each run.differences.slice(0, 5) as difference, at (at)}
                  <p class="difference"><span class="dim">{difference.what}</span> <del>{difference.before}</del> <ins>{difference.now}</ins></p>
                {/each}
                {#if run.differences.length > 5}<p class="dim">and {run.differences.length - 5} more</p>{/if}
              </td>
              <td>{#if run.verdict !== 'skipped'}<a href="/workflows/{encodeURIComponent(workflow)}?run={run.id}&recorded=yes">Open on the sheet</a>{/if}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    {/if}
  {/if}
</section>

<style>
  section {
    margin-top: 0.75rem;
    padding: 0.5rem 0.75rem;
    font-size: 0.8125rem;
    display: grid;
    grid-template-columns: minmax(0, 1fr);
    gap: 0.5rem;
    overflow-x: auto;
  }

  .head {
    flex-wrap: wrap;
  }

  .difference {
    font-size: 0.75rem;
    overflow-wrap: anywhere;
  }

  del,
  ins {
    font-family: var(--mono);
    padding: 0 0.125rem;
  }

  del {
    background: color-mix(in srgb, var(--cds-support-01) 14%, transparent);
  }

  ins {
    text-decoration: none;
    background: color-mix(in srgb, var(--cds-support-02) 16%, transparent);
  }
</style>
