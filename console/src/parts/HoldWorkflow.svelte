<script lang="ts">
  /** Holds a workflow, or releases it. */
  import { Button, InlineNotification, Modal, TextInput } from 'carbon-components-svelte';
  import type { Hold } from '../api/types';
  import { Refused, session } from '../lib/api.svelte';
  import { ago, time } from '../lib/show';

  let { workflow, hold, ondone }: { workflow: string; hold: Hold | null | undefined; ondone: () => void } = $props();
  let asking = $state(false);
  let reason = $state('');
  let wrong = $state('');

  async function change(method: 'PUT' | 'DELETE') {
    asking = false;
    wrong = '';
    try {
      await session.ask(method, `/holds/${encodeURIComponent(workflow)}`, method === 'PUT' ? { reason } : undefined);
    } catch (error) {
      wrong = error instanceof Refused ? error.message : String(error);
    }
    reason = '';
    ondone();
  }
</script>

{#if hold}
  <div class="held" role="status">
    <span><strong>Held</strong> <span title={time(hold.since)}>{ago(hold.since)}</span> by {hold.by}: {hold.reason}. Its jobs wait, and its endpoints that answer at once refuse requests.</span>
    <Button size="small" kind="tertiary" on:click={() => void change('DELETE')}>Release</Button>
  </div>
{:else}
  <Button size="small" kind="ghost" on:click={() => (asking = true)}>Hold …</Button>
{/if}
{#if wrong}<InlineNotification kind="error" lowContrast title={wrong} on:close={() => (wrong = '')} />{/if}

<Modal
  size="xs"
  open={asking}
  modalHeading="Hold {workflow}"
  primaryButtonText="Hold"
  primaryButtonDisabled={reason.trim() === ''}
  secondaryButtonText="Leave"
  hasForm
  selectorPrimaryFocus="#hold-reason"
  on:click:button--secondary={() => (asking = false)}
  on:close={() => (asking = false)}
  on:submit={() => void change('PUT')}
>
  <p class="lead">None of its jobs begins or continues, in any lane. Endpoints that answer at once answer 503. Nothing is lost.</p>
  <TextInput id="hold-reason" labelText="Why, for the others" placeholder="The mail server is being moved" maxlength={500} bind:value={reason} />
</Modal>

<style>
  .held {
    display: flex;
    gap: 1rem;
    align-items: center;
    justify-content: space-between;
    padding: 0.5rem 0.75rem;
    margin: 0.5rem 0;
    border-left: 3px solid var(--cds-support-03);
    background: var(--cds-ui-01);
    font-size: 0.875rem;
  }

  .lead {
    margin-bottom: 1rem;
  }
</style>
