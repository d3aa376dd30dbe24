<script lang="ts">
  /** Says that the records are those of a backup, and resumes the work. */
  import { Button, InlineNotification } from 'carbon-components-svelte';
  import type { Status } from '../api/types';
  import { Refused, session, Watched } from '../lib/api.svelte';
  import { time } from '../lib/show';

  let round = $state(0);
  let wrong = $state('');
  const status = new Watched<Status>(() => {
    void round;
    return '/status';
  }, 30_000);

  async function resume() {
    wrong = '';
    try {
      await session.ask('DELETE', '/restoration');
    } catch (error) {
      wrong = error instanceof Refused ? error.message : String(error);
    }
    round += 1;
  }
</script>

{#if status.value?.restored}
  <div class="restored" role="status">
    <span><strong>Restored from a backup</strong> {time(status.value.restored)}. Jobs, timetables and notices wait, so that you can look at everything before they begin.</span>
    {#if session.who?.role === 'operator'}<Button size="small" on:click={() => void resume()}>Resume</Button>{/if}
  </div>
{/if}
{#if wrong}<InlineNotification kind="error" lowContrast title={wrong} on:close={() => (wrong = '')} />{/if}

<style>
  .restored {
    display: flex;
    gap: 1rem;
    align-items: center;
    justify-content: space-between;
    padding: 0.75rem 1rem;
    margin: 1rem 1.5rem 0;
    border-left: 3px solid var(--cds-support-03);
    background: var(--cds-ui-01);
    font-size: 0.875rem;
  }
</style>
