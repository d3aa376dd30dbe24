<script lang="ts">
  import { Button, InlineNotification, Modal, TextInput } from 'carbon-components-svelte';
  import type { JobAction } from '../api/types';
  import { Refused } from '../lib/api.svelte';
  import { act, outcome, type Which } from '../lib/jobs';

  /** `jobs` are those that are known of: what can be done with one of them can be chosen. */
  let { which, jobs, ondone }: { which: Which; jobs: { state: string; waits_for?: string | null }[]; ondone: () => void } = $props();
  let message = $state('');
  let wrong = $state('');
  let asking: 'postpone' | 'cancel' | undefined = $state(undefined);
  let due = $state('1h');

  const open = $derived(jobs.some((job) => ['scheduled', 'queued', 'waiting', 'running'].includes(job.state)));
  /** A pause and a callback last as long as the workflow says. */
  const waits = $derived(jobs.some((job) => ['scheduled', 'queued'].includes(job.state) || job.waits_for === 'retry'));
  const ended = $derived(jobs.some((job) => ['failed', 'rejected', 'cancelled'].includes(job.state)));

  const named = $derived('select' in which ? 'all jobs that fit' : which.ids.length === 1 ? 'the job' : `${which.ids.length} jobs`);

  async function run(action: JobAction, more: Record<string, unknown> = {}) {
    asking = undefined;
    [message, wrong] = ['', ''];
    try {
      const done = await act(action, which, more);
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
    <Button size="small" kind="tertiary" disabled={!waits} on:click={() => (asking = 'postpone')}>Postpone …</Button>
  {/if}
  {#if ended}
    <Button size="small" kind="tertiary" on:click={() => void run('retry')}>Retry from failed step</Button>
    <Button size="small" kind="ghost" on:click={() => void run('retry', { from: 'start' })}>Retry from the start</Button>
  {/if}
</div>
{#if message}<InlineNotification kind="success" lowContrast title={message} on:close={() => (message = '')} />{/if}
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
