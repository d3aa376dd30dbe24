<script lang="ts">
  /** When a lane will be empty, as it is and with other rules that are tried here. */
  import { Button, NumberInput, TextInput } from 'carbon-components-svelte';
  import type { Forecast } from '../api/types';
  import { Watched } from '../lib/api.svelte';
  import { ahead } from '../lib/jobs';
  import { curves } from '../lib/forecast';
  import { count, time, took } from '../lib/show';
  import Chart from './Chart.svelte';
  import Trouble from './Trouble.svelte';

  let { lane, onclose }: { lane: string; onclose: () => void } = $props();
  let atOnce: number | null = $state(null);
  let pace = $state('');
  let arriving = $state('');

  const query = $derived.by(() => {
    const asked = new URLSearchParams();
    if (atOnce) asked.set('at_once', String(atOnce));
    if (pace.trim()) asked.set('pace', pace.trim());
    if (arriving.trim()) asked.set('arriving', arriving.trim());
    return asked.size ? `?${asked}` : '';
  });
  const shown = new Watched<Forecast>(() => `/lanes/${encodeURIComponent(lane)}/forecast${query}`, 5000);
  const rows = $derived(shown.value ? [{ name: 'As it is', of: shown.value.as_is }, ...(shown.value.changed ? [{ name: 'Changed', of: shown.value.changed }] : [])] : []);
  const drawn = $derived(curves(rows.map((row) => ({ label: row.name, curve: row.of.curve }))));
</script>

<section class="panel forecast" aria-label="Forecast of {lane}">
  <div class="row top">
    <h2>Forecast of {lane}</h2>
    <Button size="small" kind="ghost" on:click={onclose}>Close</Button>
  </div>
  {#if shown.error}<Trouble error={shown.error} />{/if}
  {#if shown.value}
    {@const f = shown.value}
    <p class="dim">
      {count(f.waiting)} wait, {count(f.running)} run, {f.arriving_per_min.toFixed(1)} arrive in a minute.
      {f.measured ? `A job occupies its place for ${took(f.mean_us)} on average, measured in ${count(f.measured)} runs of the last day` : `No runs were measured in the last day: ${took(f.mean_us)} are assumed for a job`}; there are {count(f.places)} places.
      {#if f.held}<strong>The lane is held: nothing begins.</strong>{:else if f.places === 0}<strong>No process runs jobs at present.</strong>{/if}
      {#if f.more}Only the first jobs are played; it takes longer.{/if}
    </p>
    <div class="row what">
      <NumberInput size="sm" allowEmpty hideSteppers labelText="What if at once" min={1} bind:value={atOnce} />
      <TextInput size="sm" labelText="What if the pace" placeholder="120/min" bind:value={pace} />
      <TextInput size="sm" labelText="What if arriving in a minute" placeholder={f.arriving_per_min.toFixed(1)} bind:value={arriving} />
    </div>
    <table class="table">
      <thead><tr><th></th><th>At once</th><th>Pace</th><th>The last one begins</th><th>Empty</th><th>Mean delay</th><th>Max delay</th></tr></thead>
      <tbody>
        {#each rows as row (row.name)}
          <tr>
            <th scope="row">{row.name}</th>
            <td>{row.of.at_once ?? 'any'}</td>
            <td>{row.of.pace ?? 'any'}</td>
            <td>{#if row.of.begun}<span title={time(row.of.begun)}>{ahead(row.of.begun)}</span>{:else}—{/if}</td>
            <td>{#if row.of.empty}<span title={time(row.of.empty)}>{ahead(row.of.empty)}</span>{:else}not within a day{/if}</td>
            <td>{took(row.of.mean_delay_us)}</td>
            <td>{took(row.of.max_delay_us)}</td>
          </tr>
        {/each}
      </tbody>
    </table>
    {#if drawn.times.length > 1}<Chart title="Jobs that wait" unit="forecast" times={drawn.times} series={drawn.series} />{/if}
  {/if}
</section>

<style>
  .forecast {
    padding: 0.75rem;
    margin: 1rem 0;
  }

  .top {
    justify-content: space-between;
  }

  h2 {
    font-size: 1.125rem;
  }

  .dim {
    font-size: 0.8125rem;
    padding: 0.25rem 0 0.75rem;
  }

  .what {
    align-items: end;
    max-width: 44rem;
    padding-bottom: 0.75rem;
  }
</style>
