<script lang="ts">
  /** What can be done to one job by hand beside its actions: a callback is answered, an input is corrected. */
  import { Button, InlineNotification, Modal, Select, SelectItem, TextArea } from 'carbon-components-svelte';
  import type { Job } from '../api/types';
  import { Refused, session } from '../lib/api.svelte';
  import { ahead } from '../lib/jobs';
  import { block, time } from '../lib/show';

  let { job, ondone }: { job: Job; ondone: () => void } = $props();
  let asking: 'answer' | 'correct' | undefined = $state(undefined);
  let step = $state('');
  let text = $state('');
  let wrong = $state('');
  let done = $state('');

  const callbacks = $derived(job.callbacks ?? []);
  const chosen = $derived(callbacks.find((one) => one.step === step) ?? callbacks[0]);
  const invalid = $derived.by(() => {
    try {
      JSON.parse(text);
      return '';
    } catch (error) {
      return String(error instanceof Error ? error.message : error);
    }
  });

  function ask(what: 'answer' | 'correct') {
    [wrong, done] = ['', ''];
    step = callbacks[0]?.step ?? '';
    text = what === 'correct' ? block(job.input) : '{\n  \n}';
    asking = what;
  }

  async function send() {
    const what = asking;
    try {
      const value: unknown = JSON.parse(text);
      if (what === 'answer') await session.ask('PUT', `/jobs/${job.id}/callback`, { step, body: value });
      else await session.ask('PUT', `/jobs/${job.id}/input`, { input: value });
      asking = undefined;
      done = what === 'answer' ? 'The callback is answered; the job goes on.' : 'The input is corrected.';
      ondone();
    } catch (error) {
      wrong = error instanceof Refused ? error.message : String(error);
    }
  }
</script>

{#each callbacks as one (one.step)}
  <p class="waits">Step {one.step} waits for a message{one.until ? ` until ${time(one.until)} (${ahead(one.until)})` : ''}.</p>
{/each}
{#if callbacks.length || job.editable}
  <div class="row">
    {#if callbacks.length}<Button size="small" kind="tertiary" on:click={() => ask('answer')}>Answer by hand …</Button>{/if}
    {#if job.editable}<Button size="small" kind="tertiary" on:click={() => ask('correct')}>Correct the input …</Button>{/if}
  </div>
{/if}
{#if done}<InlineNotification kind="success" lowContrast title={done} on:close={() => (done = '')} />{/if}

<Modal
  size="sm"
  open={asking !== undefined}
  modalHeading={asking === 'correct' ? 'Correct the input' : 'Answer the callback'}
  primaryButtonText={asking === 'correct' ? 'Correct' : 'Answer'}
  primaryButtonDisabled={invalid !== ''}
  secondaryButtonText="Leave"
  hasForm
  on:click:button--secondary={() => (asking = undefined)}
  on:close={() => (asking = undefined)}
  on:submit={() => void send()}
>
  <div class="form">
    {#if asking === 'answer' && callbacks.length > 1}
      <Select labelText="Step" bind:selected={step}>
        {#each callbacks as one (one.step)}<SelectItem value={one.step} text={one.step} />{/each}
      </Select>
    {/if}
    {#if asking === 'answer' && chosen?.accepts}
      <details><summary>What it accepts (JSON Schema)</summary><pre>{block(chosen.accepts)}</pre></details>
    {/if}
    <TextArea labelText={asking === 'correct' ? 'The whole input, as JSON' : 'What the step returns, as JSON'} rows={10} invalid={invalid !== ''} invalidText={invalid} bind:value={text} />
    {#if asking === 'correct'}<p class="dim">It is checked like a request. Lane, tags and ordering key follow from it. The change is kept in the audit trail.</p>{/if}
    {#if wrong}<InlineNotification kind="error" lowContrast hideCloseButton title={wrong} />{/if}
  </div>
</Modal>

<style>
  .waits {
    font-size: 0.875rem;
    padding-bottom: 0.5rem;
  }

  .form {
    display: grid;
    gap: 1rem;
  }

  .form :global(textarea) {
    font-family: var(--mono, monospace);
    font-size: 0.8125rem;
  }

  summary {
    cursor: pointer;
    font-size: 0.8125rem;
  }

  pre {
    font-size: 0.75rem;
    max-height: 10rem;
    overflow: auto;
  }
</style>
