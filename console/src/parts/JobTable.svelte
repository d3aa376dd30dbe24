<script lang="ts">
  import { Checkbox } from 'carbon-components-svelte';
  import type { JobLine } from '../api/types';
  import { ahead, waiting } from '../lib/jobs';
  import { router } from '../lib/router.svelte';
  import { ago, clock, took } from '../lib/show';
  import JobId from './JobId.svelte';
  import RunState from './RunState.svelte';

  let { jobs, held, selected = $bindable() }: { jobs: JobLine[]; held: Set<string>; selected: string[] } = $props();
  const all = $derived(jobs.length > 0 && jobs.every((job) => selected.includes(job.id)));

  function toggle(id: string) {
    selected = selected.includes(id) ? selected.filter((other) => other !== id) : [...selected, id];
  }

  function when(job: JobLine): string {
    if (!job.due) return 'open';
    return job.state === 'scheduled' || job.state === 'waiting' ? ahead(job.due) : ago(job.due);
  }
</script>

<div class="panel">
  <table class="table">
    <thead>
      <tr>
        <th class="check">
          <Checkbox hideLabel labelText="Select all" checked={all} on:change={() => (selected = all ? [] : jobs.map((job) => job.id))} />
        </th>
        <th>Due</th>
        <th>Workflow</th>
        <th>State</th>
        <th>Lane</th>
        <th>Delay</th>
        <th>Took</th>
        <th>Job</th>
        <th>Tag, or why it failed</th>
      </tr>
    </thead>
    <tbody>
      {#each jobs as job (job.id)}
        <tr class:chosen={selected.includes(job.id)} onclick={() => router.go(`/jobs/${job.id}`)}>
          <!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_noninteractive_element_interactions -->
          <td class="check" onclick={(event) => event.stopPropagation()}>
            <Checkbox hideLabel labelText="Select {job.id}" checked={selected.includes(job.id)} on:change={() => toggle(job.id)} />
          </td>
          <td title={job.due ? clock(job.due) : 'waits without end'}><a class="quiet" href="/jobs/{job.id}">{when(job)}</a></td>
          <td>{job.workflow}{#if job.retired}{' '}<span class="dim">(retired)</span>{/if}</td>
          <td>
            <RunState state={job.state} />
            {#if job.stopping}<span class="dim">stopping</span>
            {:else if job.state === 'running' && job.progress !== null}<span class="dim">{Math.round(job.progress * 100)} %</span>
            {:else if job.waits_for}<span class="dim">{job.waits_for}</span>
            {:else if job.blocked_by}<span class="dim">blocked</span>
            {:else if waiting(job) && held.has(job.lane)}<span class="dim">lane held</span>{/if}
          </td>
          <td>{job.lane}</td>
          <td>{took(job.delay_us)}</td>
          <td>{took(job.duration_us)}</td>
          <td>
            <JobId id={job.id} curl={job.curl} />
          </td>
          <td class="why" title={job.failure ?? job.tags.join(' ')}>
            {#if job.failure}{job.failure}{:else}{#each job.tags as tag (tag)}<a class="tag" href="/jobs?tag={encodeURIComponent(tag)}">{tag}</a> {/each}{/if}
          </td>
        </tr>
      {/each}
    </tbody>
  </table>
</div>

<style>
  tbody tr {
    cursor: pointer;
  }

  .check {
    width: 2.5rem;
    padding-right: 0;
  }

  .check :global(.bx--form-item) {
    margin: 0;
  }

  .chosen td {
    background: var(--cds-selected-ui);
  }

  td,
  th {
    white-space: nowrap;
    padding-left: 0.75rem;
    padding-right: 0.5rem;
  }

  .why {
    max-width: 14rem;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
</style>
