<script lang="ts">
  import { Button, InlineNotification, Modal, TextInput } from 'carbon-components-svelte';
  import type { JobAction } from '../api/types';
  import { Refused } from '../lib/api.svelte';
  import { act, outcome, type Which } from '../lib/jobs';
  import RetryJobs from './RetryJobs.svelte';

  /** `jobs` are those that are known of: what can be done with one of them can be chosen. */
  let { which, jobs, ondone }: { which: Which; jobs: { state: string; waits_for?: string | null }[]; ondone: () => void } = $props();
  let message = $state('');
  let wrong = $state('');
  let asking: 'postpone' | 'cancel' | 'retry' | undefined = $state(undefined);
  let due = $state('1h');
  /** The last retry, while it can be undone. */
  let undoable: string | undefined = $state(undefined);

  const open = $derived(jobs.some((job) => ['scheduled', 'queued', 'waiting', 'running'].includes(job.state)));
  /** A callback is answered; its time can only be moved. */
  const waits = $derived(jobs.some((job) => ['scheduled', 'queued', 'waiting'].includes(job.state) && job.waits_for !== 'callback'));
  const movable = $derived(jobs.some((job) => ['scheduled', 'queued', 'waiting'].includes(job.state)));
  const ended = $derived(jobs.some((job) => ['failed', 'rejected', 'cancelled'].includes(job.state)));

  const named = $derived('select' in which ? 'all jobs that fit' : which.ids.length === 1 ? 'the job' : `${which.ids.length} jobs`);

  async function run(action: JobAction, more: Record<string, unknown> = {}) {
    asking = undefined;
    [message, wrong] = ['', ''];
    try {
      const done = await act(action, action === 'undo' ? { ids: [] } : which, more);
      undoable = action === 'retry' ? (done.change ?? undefined) : undefined;
      message = done.done.length ? outcome(action, done) : '';
      wrong = done.done.length ? '' : outcome(action, done);
    } catch (error) {
      wrong = error instanceof Refused ? error.message : String(error);
    }
    ondone();
  }
</script>

<div class="row actions">
  {#if open}
    <Button size="small" kind="danger-tertiary" on:click={() => (asking = 'cancel')}>Cancel</Button>
    <Button size="small" kind="tertiary" disabled={!waits} on:click={() => void run('run-now')}>Run now</Button>
    <Button size="small" kind="tertiary" disabled={!movable} on:click={() => (asking = 'postpone')}>Postpone …</Button>
  {/if}
  {#if ended}
    <Button size="small" kind="tertiary" on:click={() => (asking = 'retry')}>Retry …</Button>
  {/if}
</div>
{#if message}<InlineNotification kind="success" lowContrast title={message} on:close={() => (message = '')}>
  <svelte:fragment slot="actions">
    {#if undoable}<Button size="small" kind="ghost" on:click={() => void run('undo', { change: undoable })}>Undo</Button>{/if}
  </svelte:fragment>
</InlineNotification>{/if}
{#if wrong}<InlineNotification kind="warning" lowContrast title={wrong} on:close={() => (wrong = '')} />{/if}

<Modal
  size="xs"
  open={asking === 'postpone'}
  modalHeading="Postpone {named}"
  primaryButtonText="Postpone"
  secondaryButtonText="Leave"
  on:click:button--secondary={() => (asking = undefined)}
  on:close={() => (asking = undefined)}
  on:submit={() => void run('postpone', { due })}
>
  <TextInput labelText="Due" helperText="An instant such as 2027-03-04T06:00:00Z, or a span from now: 2h, 3 days" bind:value={due} />
</Modal>
<RetryJobs open={asking === 'retry'} {which} {named} onclose={() => (asking = undefined)} onretry={(more) => void run('retry', more)} />
<Modal
  size="xs"
  danger
  open={asking === 'cancel'}
  modalHeading="Cancel {named}?"
  primaryButtonText="Cancel {named === 'the job' ? named : 'them'}"
  secondaryButtonText="Leave"
  on:click:button--secondary={() => (asking = undefined)}
  on:close={() => (asking = undefined)}
  on:submit={() => void run('cancel')}
>
  <p>What waits never begins; what runs stops before its next step.</p>
</Modal>

<style>
  .actions {
    flex-wrap: wrap;
  }
</style>
