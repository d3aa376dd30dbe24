<script lang="ts">
  /** Asks how jobs are retried, and says before what that would do. */
  import { Modal, RadioButton, RadioButtonGroup, TextInput } from 'carbon-components-svelte';
  import type { JobChange, JobsChanged } from '../api/types';
  import { Refused } from '../lib/api.svelte';
  import { act, previewed, type Which } from '../lib/jobs';

  let { open, which, named, onclose, onretry }: { open: boolean; which: Which; named: string; onclose: () => void; onretry: (more: Partial<JobChange>) => void } = $props();
  let from: 'failed-step' | 'start' = $state('failed-step');
  let revision: 'own' | 'live' = $state('own');
  let pace = $state('');
  let found: JobsChanged | undefined = $state.raw(undefined);
  let wrong = $state('');

  const more = $derived<Partial<JobChange>>({ from, revision, ...(pace.trim() ? { pace: pace.trim() } : {}) });

  $effect(() => {
    if (!open) return;
    const asked = { ...more, preview: true };
    let current = true;
    const timer = setTimeout(async () => {
      try {
        const answer = await act('retry', which, asked);
        if (current) [found, wrong] = [answer, ''];
      } catch (error) {
        if (current) [found, wrong] = [undefined, error instanceof Refused ? error.message : String(error)];
      }
    }, 250);
    return () => {
      current = false;
      clearTimeout(timer);
    };
  });
</script>

<Modal
  size="sm"
  {open}
  modalHeading="Retry {named}"
  primaryButtonText="Retry"
  primaryButtonDisabled={!found?.preview?.fit}
  secondaryButtonText="Leave"
  hasForm
  on:click:button--secondary={onclose}
  on:close={onclose}
  on:submit={() => onretry(more)}
>
  <div class="form">
    <RadioButtonGroup orientation="vertical" legendText="Where it begins" bind:selected={from}>
      <RadioButton value="failed-step" labelText="At the failed step; what is done stays done" />
      <RadioButton value="start" labelText="At the first step, with the same input" />
    </RadioButtonGroup>
    <RadioButtonGroup orientation="vertical" legendText="Which revision continues" bind:selected={revision}>
      <RadioButton value="own" labelText="The one that the job has" />
      <RadioButton value="live" labelText="The live one, where the steps that are done ask for the same" />
    </RadioButtonGroup>
    <TextInput labelText="Pace" helperText="How many become due in an interval: 10/s, 100/min. Empty: all at once" bind:value={pace} />
    <div role="status" class="preview">
      {#if wrong}
        <p class="wrong">{wrong}</p>
      {:else if found}
        <p><strong>{previewed(found)}</strong></p>
        {#each found.refused.slice(0, 3) as one (one.id)}<p class="dim">Not <span class="mono">…{one.id.slice(-12)}</span>: {one.why}.</p>{/each}
        {#if found.refused.length > 3}<p class="dim">And {found.refused.length - 3} more.</p>{/if}
      {/if}
    </div>
  </div>
</Modal>

<style>
  .form {
    display: grid;
    gap: 1.25rem;
  }

  .preview {
    min-height: 3rem;
    font-size: 0.8125rem;
  }

  .wrong {
    color: var(--cds-text-error);
  }
</style>
