<script lang="ts">
  /** The effect before which a trial stopped, the values its step knows, and what may come of it. */
  import { Button } from 'carbon-components-svelte';
  import type { Trial, TrialDecision, TrialStop } from '../api/types';
  import { Refused, session } from '../lib/api.svelte';
  import type { Desk } from './desk.svelte';

  let { desk, stop, busy = $bindable(), onerror }: { desk: Desk; stop: TrialStop; busy: boolean; onerror: (error: Refused | undefined) => void } = $props();
  let answer = $state('');
  let status = $state('200');
  let edited: Record<string, string> = $state({});

  async function decide(what: string) {
    if (!desk.trial) return;
    const made: TrialDecision = { decision: what, status: null, headers: {}, body: null, kind: '', values: {} };
    try {
      if (what === 'answer') [made.status, made.body] = [Number(status), answer.trim() ? JSON.parse(answer) : null];
      if (what === 'fail') made.kind = 'unreachable';
      made.values = Object.fromEntries(Object.entries(edited).map(([name, text]) => [name, JSON.parse(text)]));
    } catch (fault) {
      onerror(new Refused(0, 'The value cannot be read', fault instanceof Error ? fault.message : String(fault)));
      return;
    }
    onerror(undefined);
    busy = true;
    try {
      const { id } = desk.trial;
      if (Object.keys(made.values ?? {}).length) {
        await session.ask<Trial>('POST', `/trials/${id}/decisions`, { ...made, decision: 'set' });
        made.values = {};
        edited = {};
      }
      desk.trial = await session.ask<Trial>('POST', `/trials/${id}/decisions`, made);
    } catch (refused) {
      onerror(refused instanceof Refused ? refused : new Refused(0, 'It failed', String(refused)));
    } finally {
      busy = false;
    }
  }
</script>

<section class="panel stop" aria-label="The trial stopped">
  <p><strong>Stopped before {stop.step}</strong> <span class="mono">{stop.effect.name} {stop.effect.what}</span> <span class="dim">usually {stop.effect.mode}</span></p>
  {#if stop.refused}<p class="why">{stop.refused}</p>{/if}
  <div class="names">
    {#each stop.names as name (name.name)}
      <label class="mono" for="value-{name.name}">{name.name}</label>
      <input id="value-{name.name}" class="control mono" value={edited[name.name] ?? JSON.stringify(name.value)} oninput={(event) => (edited = { ...edited, [name.name]: event.currentTarget.value })} />
    {/each}
  </div>
  <div class="row decide">
    <Button size="small" disabled={busy} on:click={() => void decide('usual')}>Go on</Button>
    <Button size="small" kind="tertiary" disabled={busy} on:click={() => void decide('perform')}>Perform</Button>
    <Button size="small" kind="tertiary" disabled={busy} on:click={() => void decide('simulate')}>Simulate</Button>
    <Button size="small" kind="tertiary" disabled={busy} on:click={() => void decide('skip')}>Skip</Button>
    <Button size="small" kind="tertiary" disabled={busy} on:click={() => void decide('fail')}>Let it fail</Button>
    <label for="answer-status">Status</label>
    <input id="answer-status" class="control short mono" bind:value={status} />
    <input class="control mono grow" aria-label="Body of the answer, as JSON" placeholder={'{"name": "Havbris"}'} bind:value={answer} />
    <Button size="small" kind="tertiary" disabled={busy} on:click={() => void decide('answer')}>Answer</Button>
    <Button size="small" kind="ghost" disabled={busy} on:click={() => void decide('finish')}>To the end</Button>
    <Button size="small" kind="danger-ghost" disabled={busy} on:click={() => void decide('end')}>End</Button>
  </div>
</section>

<style>
  .stop {
    padding: 0.75rem;
    display: grid;
    gap: 0.375rem;
    font-size: 0.8125rem;
  }

  .names {
    display: grid;
    grid-template-columns: max-content minmax(0, 1fr);
    gap: 0.25rem 0.75rem;
    align-items: center;
    max-height: 14rem;
    overflow: auto;
  }

  .decide {
    flex-wrap: wrap;
  }

  .short {
    width: 4rem;
  }

  .grow {
    flex: 1;
    min-width: 10rem;
  }

  .why {
    color: var(--cds-text-error);
  }
</style>
