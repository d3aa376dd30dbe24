<script lang="ts">
  /** Erases what belongs to a caller, a tag or a value, after it has counted it. */
  import { Button, InlineNotification, Select, SelectItem, TextInput } from 'carbon-components-svelte';
  import type { Erasure } from '../api/types';
  import { Refused, session } from '../lib/api.svelte';
  import { count } from '../lib/show';

  let by: 'text' | 'caller' | 'tag' = $state('text');
  let value = $state('');
  let report: Erasure | undefined = $state.raw(undefined);
  /** What the report is about. */
  let of = $state('');
  let wrong = $state('');
  const busy = $derived.by(() => report !== undefined && !report.ended);

  const lines = $derived.by((): [number, string][] =>
    report
      ? [
          [report.jobs, 'jobs with what is recorded of them'],
          [report.runs, 'runs'],
          [report.deliveries, 'messages of senders'],
          [report.refusals, 'refused requests'],
          [report.files, 'files'],
          [report.others, 'kept answers, values passed on and counts'],
        ]
      : [],
  );

  async function run(preview: boolean) {
    [wrong, of] = ['', `${by} ${value}`];
    try {
      report = await session.ask<Erasure>('POST', '/erasures', { [by]: value, preview });
      while (!report.ended) {
        await new Promise((resolve) => setTimeout(resolve, 400));
        report = await session.get<Erasure>(`/erasures/${report.id}`);
      }
    } catch (error) {
      report = undefined;
      wrong = error instanceof Refused ? error.message : String(error);
    }
  }
</script>

<h2 id="erase">Erase</h2>
<p class="dim">All jobs, runs, messages, files and refused requests that belong to a caller or a tag, or whose input has a value. The audit trail keeps that it was done, without the value.</p>
<form class="row form" onsubmit={(event) => { event.preventDefault(); void run(true); }}>
  <Select labelText="By" size="sm" bind:selected={by}>
    <SelectItem value="text" text="value in the input" />
    <SelectItem value="caller" text="caller" />
    <SelectItem value="tag" text="tag" />
  </Select>
  <TextInput size="sm" labelText="Which" placeholder={by === 'text' ? '9074720' : by === 'caller' ? 'name of a key, subject, address' : 'hold-17'} bind:value />
  <Button size="small" kind="tertiary" type="submit" disabled={busy || value.trim() === ''}>Count</Button>
  {#if report?.preview && report.ended && of === `${by} ${value}`}
    <Button size="small" kind="danger" on:click={() => void run(false)}>Erase for good</Button>
  {/if}
</form>
{#if wrong}<InlineNotification kind="error" lowContrast title={wrong} on:close={() => (wrong = '')} />{/if}
{#if report}
  <div class="panel report" role="status">
    <table class="table">
      <tbody>
        {#each lines as [number, what] (what)}<tr><td class="number">{count(number)}</td><td>{what} {report.preview ? 'would be erased' : 'erased'}</td></tr>{/each}
        {#if report.open}<tr><td class="number wrong">{count(report.open)}</td><td>jobs have not ended and stay: cancel them, and erase again</td></tr>{/if}
        {#if report.sealed}<tr><td class="number wrong">{count(report.sealed)}</td><td>jobs or messages cannot be opened with the key of the secrets, and stay</td></tr>{/if}
      </tbody>
    </table>
    <p class="dim">{count(report.examined)} runs looked at{busy ? ' so far' : ''}.{report.failure ? ` It broke off: ${report.failure}.` : ''}</p>
  </div>
{/if}

<style>
  h2 {
    margin: 2rem 0 0.5rem;
    font-size: 1.125rem;
  }

  .dim {
    font-size: 0.8125rem;
  }

  .form {
    align-items: end;
    margin: 0.75rem 0;
    max-width: 48rem;
  }

  .report {
    max-width: 48rem;
    padding: 0.75rem;
  }

  .number {
    text-align: right;
    width: 6rem;
  }

  .wrong {
    color: var(--cds-text-error);
  }
</style>
