<script lang="ts">
  import { Button, InlineNotification, Modal, SkeletonText, Tag } from 'carbon-components-svelte';
  import type { Lane, Lanes, Sample, Samples } from '../api/types';
  import { Refused, session, Watched } from '../lib/api.svelte';
  import { router } from '../lib/router.svelte';
  import { count, took } from '../lib/show';
  import Chart from '../parts/Chart.svelte';
  import Forecasting from '../parts/Forecasting.svelte';
  import Over from '../parts/Over.svelte';
  import Trouble from '../parts/Trouble.svelte';

  let round = $state(0);
  let minutes = $state('60');
  let wrong = $state('');
  let emptying: string | undefined = $state(undefined);
  /** The lane whose forecast is shown; it is part of the address. */
  const forecast = $derived(router.query.get('forecast') ?? '');

  const shown = new Watched<Lanes>(() => {
    void round;
    return '/lanes';
  }, 2000);
  const samples = new Watched<Samples>(() => `/lanes/samples?minutes=${minutes}`, 5000);

  /** Samples of all lanes on one axis; ten seconds without one are nothing. */
  const drawn = $derived.by(() => {
    const lanes = samples.value?.lanes ?? {};
    const width = samples.value?.seconds ?? 10;
    const known = Object.values(lanes).flat().map((sample) => sample.at);
    const last = Math.floor(Date.now() / 1000 / width) * width;
    const first = Math.max(known.length ? Math.min(...known) : last, last - Number(minutes) * 60);
    const times = Array.from({ length: Math.max(2, Math.floor((last - first) / width) + 1) }, (_, index) => first + index * width);
    const of = (pick: (sample: Sample) => number) =>
      Object.entries(lanes).map(([label, found]) => {
        const by = new Map(found.map((sample) => [sample.at, pick(sample)]));
        return { label, values: times.map((at) => by.get(at) ?? 0) };
      });
    // What was done in the ten seconds that are not over would show as a fall.
    const over = (series: ReturnType<typeof of>) => series.map((one) => ({ ...one, values: one.values.map((n, index) => (index < times.length - 1 ? n : null)) }));
    return { times, waiting: of((s) => s.waiting), done: over(of((s) => ((s.succeeded + s.rejected + s.failed) * 60) / width)), delay: of((s) => s.max_delay_ms / 1000) };
  });

  async function act(name: string, action: string) {
    wrong = '';
    emptying = undefined;
    try {
      await session.ask('POST', `/lanes/${encodeURIComponent(name)}/${action}`);
    } catch (error) {
      wrong = error instanceof Refused ? error.message : String(error);
    }
    round += 1;
  }
</script>

<svelte:head><title>Lanes · Kanzlei</title></svelte:head>

<div class="page">
  <h1>Lanes</h1>
  {#if shown.error}<Trouble error={shown.error} />{/if}
  {#if wrong}<InlineNotification kind="error" lowContrast title={wrong} on:close={() => (wrong = '')} />{/if}
  {#if shown.value}
    <div class="panel">
      <table class="table">
        <thead>
          <tr>
            <th>Lane</th><th>Queued</th><th>Running</th><th>Waiting</th><th>Scheduled</th><th>Oldest</th><th>At once</th><th>Pace</th><th>Order</th><th>Last 5 min</th><th>Max delay</th><th><span class="sr">Actions</span></th>
          </tr>
        </thead>
        <tbody>
          {#each shown.value.lanes as lane (lane.name)}
            <tr>
              <td title={lane.about}>
                <a href="/jobs?lane={lane.name}">{lane.name}</a>
                {#if lane.held}<Tag type="magenta" size="sm">held</Tag>{/if}
              </td>
              <td>{count(lane.queued)}{lane.length ? ` of ${count(lane.length)}` : ''}</td>
              <td>{count(lane.running)}</td>
              <td>{count(lane.waiting)}</td>
              <td>{count(lane.scheduled)}</td>
              <td>{took(lane.oldest_us)}</td>
              <td>{lane.at_once ?? '—'}</td>
              <td>{lane.pace ?? '—'}</td>
              <td>{lane.order === 'due' ? 'as due' : lane.order.replace('one at a time per ', 'per ')}</td>
              <td>{lane.last_5min.succeeded} succeeded{lane.last_5min.rejected ? `, ${lane.last_5min.rejected} rejected` : ''}{lane.last_5min.failed ? `, ${lane.last_5min.failed} failed` : ''}</td>
              <td>{lane.last_5min.begun ? took(lane.last_5min.max_delay_us) : ''}</td>
              <td class="acts">
                <Button size="small" kind="ghost" on:click={() => router.filter('forecast', forecast === lane.name ? '' : lane.name)}>Forecast</Button>
                <Button size="small" kind="ghost" on:click={() => void act(lane.name, lane.held ? 'release' : 'hold')}>{lane.held ? 'Release' : 'Hold'}</Button>
                <Button size="small" kind="ghost" disabled={lane.queued + lane.scheduled + lane.waiting === 0} on:click={() => (emptying = lane.name)}>Empty …</Button>
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
    {#if forecast}{#key forecast}<Forecasting lane={forecast} onclose={() => router.filter('forecast', '')} />{/key}{/if}
    <div class="row over">
      <Over bind:minutes />
    </div>
    <div class="charts">
      <Chart title="Queue depth" unit="jobs that wait" times={drawn.times} series={drawn.waiting} />
      <Chart title="Throughput" unit="jobs ended a minute" times={drawn.times} series={drawn.done} />
      <Chart title="Maximum delay" unit="seconds from due to begun" times={drawn.times} series={drawn.delay} />
    </div>
  {:else if !shown.error}
    <div class="panel empty"><SkeletonText paragraph lines={6} /></div>
  {/if}
</div>

<Modal
  size="xs"
  danger
  open={emptying !== undefined}
  modalHeading="Cancel all that waits in {emptying}?"
  primaryButtonText="Empty the lane"
  secondaryButtonText="Leave"
  on:click:button--secondary={() => (emptying = undefined)}
  on:close={() => (emptying = undefined)}
  on:submit={() => emptying && void act(emptying, 'empty')}
>
  <p>Jobs that have begun continue.</p>
</Modal>

<style>
  h1 {
    margin-bottom: 1rem;
  }

  td,
  th {
    white-space: nowrap;
    padding-left: 0.5rem;
    padding-right: 0.5rem;
  }

  .table th,
  .table td {
    padding-inline: 0.375rem;
  }

  .acts :global(.bx--btn) {
    padding: 0 0.375rem;
    min-width: 0;
  }

  .acts {
    white-space: nowrap;
    text-align: right;
  }

  .over {
    margin: 1rem 0 0.5rem;
  }

  .charts {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(min(20rem, 100%), 1fr));
    gap: 1rem;
  }

  .empty {
    padding: 1.5rem;
  }
</style>
