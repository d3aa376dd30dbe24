<script lang="ts">
  import { Select, SelectItem, SkeletonText, Tag } from 'carbon-components-svelte';
  import type { Coming, ComingLine } from '../api/types';
  import { Watched } from '../lib/api.svelte';
  import { ahead } from '../lib/jobs';
  import { count, time } from '../lib/show';
  import Trouble from '../parts/Trouble.svelte';

  let minutes = $state('60');
  const shown = new Watched<Coming>(() => `/coming?minutes=${minutes}`, 5000);

  const WORDS: Record<ComingLine['kind'], string> = {
    timetable: 'timetable',
    due: 'due',
    pause: 'pause ends',
    callback: 'wait is up',
    retry: 'retry',
  };
</script>

<svelte:head><title>To come · Kanzlei</title></svelte:head>

<div class="page">
  <h1>To come</h1>
  {#if shown.error}<Trouble error={shown.error} />{/if}
  <div class="row">
    <Select labelText="In the next" size="sm" inline bind:selected={minutes}>
      <SelectItem value="60" text="hour" />
      <SelectItem value="1440" text="day" />
      <SelectItem value="10080" text="week" />
    </Select>
  </div>
  {#if shown.value && shown.value.coming.length > 0}
    <div class="panel">
      <table class="table">
        <thead><tr><th>From</th><th>In</th><th>What</th><th>Workflow</th><th>Lane</th><th class="number">Jobs</th></tr></thead>
        <tbody>
          {#each shown.value.coming as line (line.first + line.kind + line.workflow + line.lane)}
            <tr>
              <td>{time(line.first)}</td>
              <td>{ahead(line.first)}</td>
              <td><Tag type={line.kind === 'retry' ? 'magenta' : 'gray'} size="sm">{WORDS[line.kind]}</Tag></td>
              <td><a href="/workflows/{line.workflow}">{line.workflow}</a></td>
              <td><a href="/jobs?lane={line.lane}">{line.lane}</a></td>
              <td class="number">{count(line.count)}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
    {#if shown.value.more}<p>There is more than is shown; look less far ahead.</p>{/if}
  {:else if shown.value}
    <div class="panel empty"><p>Nothing until {time(shown.value.until)}. Jobs that are due later, pauses and timetables appear here.</p></div>
  {:else if !shown.error}
    <div class="panel empty"><SkeletonText paragraph lines={6} /></div>
  {/if}
</div>

<style>
  h1 {
    margin-bottom: 1rem;
  }

  .row {
    margin-bottom: 1rem;
  }

  .number {
    text-align: right;
  }

  .empty {
    padding: 1rem;
  }
</style>
