<script lang="ts">
  /** How the service does: runs, failures and times of the last minutes, lanes, and what is used of the bounds of the process. */
  import { Select, SelectItem, SkeletonText } from 'carbon-components-svelte';
  import type { Bound, Ended, Overview } from '../api/types';
  import { Watched } from '../lib/api.svelte';
  import { ago, count, size, time, took } from '../lib/show';
  import { byMinute } from '../lib/overview';
  import Chart from '../parts/Chart.svelte';
  import CopyText from '../parts/CopyText.svelte';
  import Over from '../parts/Over.svelte';
  import Trouble from '../parts/Trouble.svelte';

  let minutes = $state('60');
  let workflow = $state('');
  const shown = new Watched<Overview>(() => `/overview?minutes=${minutes}${workflow ? `&workflow=${encodeURIComponent(workflow)}` : ''}`, () => (Number(minutes) > 60 ? 60_000 : 5000));
  /** Those of all, also while one is chosen. */
  let names: string[] = $state.raw([]);
  $effect(() => {
    if (shown.value && !workflow) names = shown.value.workflows.map((one) => one.workflow).sort();
  });
  const drawn = $derived(shown.value ? byMinute(shown.value, Number(minutes), Date.now()) : undefined);
  const total = $derived((shown.value?.minutes ?? []).reduce((sum, one) => ({ runs: sum.runs + one.ended.runs, rejected: sum.rejected + one.ended.rejected, failed: sum.failed + one.ended.failed }), { runs: 0, rejected: 0, failed: 0 }));
  const share = (ended: Pick<Ended, 'runs' | 'failed'>) => (ended.failed ? `${count(ended.failed)} (${((100 * ended.failed) / ended.runs).toFixed(1)} %)` : '0');
  const amount = (bound: Bound, n: number) => (bound.unit === 'bytes' ? size(n) : count(n));
  const words: Record<string, string> = {
    requests: 'requests in flight',
    background: 'threads for checks and compilations',
    computing: 'threads for long evaluations',
    connections: 'connections of the database',
    journal: 'runs that wait to be written',
    acceptances: 'jobs that wait to be written',
  };
</script>

<svelte:head><title>Overview · Kanzlei</title></svelte:head>

<div class="page">
  <h1>Overview</h1>
  {#if shown.error}<Trouble error={shown.error} />{/if}
  {#if shown.value && drawn}
    <div class="row over">
      <Over bind:minutes />
      <Select labelText="Of" size="sm" inline bind:selected={workflow}>
        <SelectItem value="" text="all workflows" />
        {#each names as name (name)}<SelectItem value={name} text={name} />{/each}
      </Select>
      <span class="sums" role="status"><strong>{count(total.runs)}</strong> run{total.runs === 1 ? '' : 's'}, {count(total.rejected)} rejected, <span class:bad={total.failed > 0}>{share(total)} failed</span></span>
    </div>
    <div class="charts">
      <Chart title="Runs" unit="ended a minute" times={drawn.times} series={drawn.runs} />
      <Chart title="Not succeeded" unit="ended a minute" times={drawn.times} series={drawn.failures} />
      <Chart title="Duration" unit="milliseconds" times={drawn.times} series={drawn.took} />
    </div>
    <div class="tables">
      <section class="panel" aria-label="Workflows">
        <h2>Workflows</h2>
        {#if shown.value.workflows.length}
          <table class="table">
            <thead><tr><th>Workflow</th><th class="number">Runs</th><th class="number">Rejected</th><th class="number">Failed</th><th class="number">p50</th><th class="number">p95</th><th class="number">p99</th></tr></thead>
            <tbody>
              {#each shown.value.workflows as one (one.workflow)}
                <tr>
                  <td><a href="/workflows/{one.workflow}">{one.workflow}</a></td>
                  <td class="number">{count(one.ended.runs)}</td>
                  <td class="number">{one.ended.rejected ? count(one.ended.rejected) : ''}</td>
                  <td class="number">{#if one.ended.failed}<a class="bad" href="/runs?workflow={one.workflow}&state=failed">{share(one.ended)}</a>{/if}</td>
                  <td class="number">{took(one.ended.p50_us)}</td>
                  <td class="number">{took(one.ended.p95_us)}</td>
                  <td class="number">{took(one.ended.p99_us)}</td>
                </tr>
              {/each}
            </tbody>
          </table>
          {#if shown.value.without_times}<p class="dim note">The times of {shown.value.without_times} more workflows are not read; choose one to see its own.</p>{/if}
        {:else}
          <p class="dim note">No run has ended in this span.</p>
        {/if}
      </section>
      <div>
        <section class="panel" aria-label="Bounds">
          <h2>This process</h2>
          <table class="table">
            <thead><tr><th>Bound</th><th class="number">Used</th><th class="number">Of</th><th><span class="sr">Share</span></th></tr></thead>
            <tbody>
              {#each shown.value.bounds as bound (bound.name)}
                <tr>
                  <td>{words[bound.name] ?? bound.name}</td>
                  <td class="number">{amount(bound, bound.used)}</td>
                  <td class="number">{amount(bound, bound.bound)}</td>
                  <td><meter min="0" max={bound.bound || 1} high={0.8 * (bound.bound || 1)} optimum="0" value={bound.used} aria-label="{words[bound.name] ?? bound.name}"></meter></td>
                </tr>
              {/each}
            </tbody>
          </table>
          <p class="note">The database is {#if shown.value.database === 'available'}available{:else}<strong class="bad">{shown.value.database}</strong>{/if}; it took {took(shown.value.ping_us)} to answer. The process began <span title={time(shown.value.started)}>{ago(shown.value.started)}</span>{#if shown.value.dropped}; it dropped <strong class="bad">{count(shown.value.dropped)}</strong> details{/if}.</p>
        </section>
        {#if shown.value.services.length}
          <section class="panel" aria-label="Services">
            <h2>Calls by this process</h2>
            <table class="table">
              <thead><tr><th>Service</th><th class="number">Calls</th><th class="number">Failed</th><th class="number">Mean</th></tr></thead>
              <tbody>
                {#each shown.value.services as one (one.service)}
                  <tr>
                    <td><a href="/services#{one.service}">{one.service}</a></td>
                    <td class="number">{count(one.calls)}</td>
                    <td class="number" class:bad={one.failures > 0}>{one.failures ? share({ runs: one.calls, failed: one.failures }) : ''}</td>
                    <td class="number">{took(one.mean_us)}</td>
                  </tr>
                {/each}
              </tbody>
            </table>
          </section>
        {/if}
      </div>
    </div>
    <p class="row dim">The same in a terminal: <CopyText text="kanzlei overview --minutes {minutes}" label="Copy the line" /> For a monitoring system: <code>GET /metrics</code> of this listener. <a href="/handbook/operating">In the handbook</a></p>
  {:else if !shown.error}
    <div class="panel"><SkeletonText paragraph lines={6} /></div>
  {/if}
</div>

<style>
  .over {
    margin: 0.75rem 0;
    gap: 0.25rem 1rem;
    align-items: center;
    justify-content: flex-start;
  }

  .over :global(.bx--form-item) {
    flex: 0 0 auto;
    width: auto;
  }

  .number {
    text-align: right;
    white-space: nowrap;
  }

  .sums {
    font-size: 0.875rem;
  }

  .charts {
    display: grid;
    grid-template-columns: repeat(3, minmax(0, 1fr));
    gap: 0.75rem;
    margin-bottom: 0.75rem;
  }

  .tables {
    display: grid;
    grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
    gap: 0.75rem;
    align-items: start;
    margin-bottom: 0.75rem;
  }

  .tables > div {
    display: grid;
    gap: 0.75rem;
  }

  section {
    overflow-x: auto;
  }

  h2 {
    font-size: 0.875rem;
    padding: 0.625rem 0.75rem 0.25rem;
  }

  .note {
    padding: 0.5rem 0.75rem;
    font-size: 0.8125rem;
  }

  .bad {
    color: var(--cds-text-error);
  }

  meter {
    width: 5rem;
  }

  @media (max-width: 66rem) {
    .charts,
    .tables {
      grid-template-columns: minmax(0, 1fr);
    }
  }
</style>
