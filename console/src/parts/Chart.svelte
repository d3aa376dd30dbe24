<script lang="ts">
  import uPlot from 'uplot';
  import 'uplot/dist/uPlot.min.css';
  import { zone } from '../lib/zone.svelte';
  import { theme } from '../lib/theme.svelte';

  interface Series {
    label: string;
    values: (number | null)[];
  }

  let { title, unit = '', times, series }: { title: string; unit?: string; times: number[]; series: Series[] } = $props();
  let place: HTMLDivElement | undefined = $state(undefined);
  let width = $state(0);

  // Of Carbon's palette for data, in its order for categories.
  const COLOURS = ['#6929c4', '#1192e8', '#005d5d', '#9f1853', '#fa4d56', '#570408', '#198038'];
  /** The same palette, for dark grounds. */
  const LIGHTER = ['#a56eff', '#33b1ff', '#08bdba', '#ff7eb6', '#fa4d56', '#fff1f1', '#6fdc8c'];

  /** Values without one beside them, which no line would show. */
  const alone = (values: (number | null)[]) => values.flatMap((value, at) => (value !== null && (values[at - 1] ?? null) === null && (values[at + 1] ?? null) === null ? [at] : []));

  $effect(() => {
    if (!place || width < 50) return;
    const colours = theme.choice === 'dark' ? LIGHTER : COLOURS;
    const colour = (name: string) => getComputedStyle(document.body).getPropertyValue(name).trim() || '#6f6f6f';
    const axis = { stroke: colour('--cds-text-02'), grid: { stroke: colour('--cds-ui-03'), width: 1 }, ticks: { show: false }, font: '11px IBM Plex Sans' };
    // Seconds are said only where minutes would repeat.
    const timeStyle = (times.at(-1) ?? 0) - (times.at(0) ?? 0) < 300 ? 'medium' : 'short';
    const plot = new uPlot(
      {
        width,
        height: 200,
        padding: [8, 24, 0, 0],
        legend: { show: series.length > 1, live: false },
        cursor: { y: false },
        scales: { y: { range: (_, __, most) => [0, most > 0 ? most * 1.1 : 1] } },
        axes: [{ ...axis, space: 64, size: 28, values: (_, ticks) => ticks.map((at) => new Date(at * 1000).toLocaleTimeString('sv-SE', { timeStyle, timeZone: zone.name })) }, { ...axis, size: 44 }],
        series: [
          {},
          ...series.map((one, index) => ({ label: one.label, stroke: colours[index % colours.length], width: 1.5, points: { show: true, size: 4, filter: (_: uPlot, at: number) => alone(series[at - 1]?.values ?? []) }, spanGaps: false })),
        ],
      },
      [times, ...series.map((one) => one.values)],
      place,
    );
    return () => plot.destroy();
  });
</script>

<figure class="panel" aria-label={title}>
  <figcaption>{title} <span class="dim">{unit}</span></figcaption>
  <div bind:this={place} bind:clientWidth={width}></div>
</figure>

<style>
  figure {
    padding: 0.75rem;
    min-width: 0;
  }

  figcaption {
    font-size: 0.875rem;
    margin-bottom: 0.25rem;
  }

  figure :global(.u-legend) {
    font-size: 0.75rem;
    text-align: left;
    margin-top: 0.25rem;
  }

  figure :global(.u-legend th) {
    font-weight: 400;
    font-family: 'IBM Plex Sans', system-ui, sans-serif;
    color: var(--cds-text-01);
  }
</style>
