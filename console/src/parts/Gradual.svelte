<script lang="ts">
  /** Two revisions of a workflow side by side: what each serves, how they fail, how long they take, what they answer; raised, finished or taken back. */
  import { Button, InlineNotification, Modal, SkeletonText, TextInput } from 'carbon-components-svelte';
  import type { Gradual, Rules, Workflow } from '../api/types';
  import { Refused, session, Watched } from '../lib/api.svelte';
  import { answersOf, changed, form, margins, of, serves } from '../lib/gradual';
  import { ago, time, took } from '../lib/show';
  import Sharing from './Sharing.svelte';
  import Trouble from './Trouble.svelte';

  let { workflow, ondone }: { workflow: Workflow; ondone: () => void } = $props();
  const base = $derived(`/workflows/${encodeURIComponent(workflow.name)}/gradual`);
  const found = new Watched<Gradual>(() => base, 5000);
  const under = $derived(found.value && !found.value.end ? found.value : undefined);
  let asking: 'change' | 'finish' | 'take-back' | undefined = $state(undefined);
  let reason = $state('');
  let wrong = $state('');
  let asked = $state(form());

  async function act(how: 'finish' | 'take-back') {
    asking = undefined;
    await attempt(() => session.ask('POST', `${base}/${how}`, { revision: found.value?.revision ?? 0, reason }));
    reason = '';
  }

  async function change() {
    asking = undefined;
    const rules: Rules = changed(found.value?.rules, asked);
    await attempt(() => session.ask('PUT', base, { revision: found.value?.revision ?? 0, rules }));
  }

  async function attempt(what: () => Promise<unknown>) {
    wrong = '';
    try {
      await what();
    } catch (error) {
      wrong = error instanceof Refused ? error.message : String(error);
    }
    found.again();
    ondone();
  }

  function edit() {
    asked = form(found.value?.rules);
    asking = 'change';
  }
</script>

{#if found.error && found.error.status === 404}
  <div class="panel empty">
    <p>Only revision {workflow.revision} serves what comes.</p>
    <p class="dim">When you deploy a draft, you can leave the live revision in place and have the new one serve a share. Both are compared here.</p>
  </div>
{:else if found.error}
  <Trouble error={found.error} />
{:else if !found.value}
  <div class="panel empty"><SkeletonText paragraph lines={6} /></div>
{:else}
  {@const { old, rules, end } = found.value}
  {@const fresh = found.value.new}
  <section class="panel box" aria-label="Two revisions">
    <div class="head">
      <div>
        {#if end}
          <p><strong>Revision {fresh.revision} {end.outcome === 'finished' ? 'is live now' : end.outcome === 'taken-back' ? 'was taken back' : 'was replaced by another deploy'}</strong> <span class="dim" title={time(end.at)}>{ago(end.at)} by {end.by}</span></p>
          {#if end.reason}<p>{end.reason}</p>{/if}
        {:else}
          <p><strong>Revision {fresh.revision} serves {serves(rules)}</strong> <span class="dim" title={time(found.value.since)}>since {ago(found.value.since)} by {found.value.by}</span></p>
          <p class="dim">Revision {old.revision} serves the rest. The new one is taken back by itself {margins(rules)}.</p>
        {/if}
        {#if found.value.fault}<p class="error">{found.value.fault}</p>{/if}
        {#if found.value.worse && !end}<p class="error">{found.value.worse}</p>{/if}
      </div>
      {#if under}
        <div class="row buttons">
          <Button size="small" kind="tertiary" on:click={edit}>Change the share …</Button>
          <Button size="small" on:click={() => (asking = 'finish')}>Finish …</Button>
          <Button size="small" kind="danger-tertiary" on:click={() => (asking = 'take-back')}>Take back …</Button>
        </div>
      {/if}
    </div>
    <table>
      <thead><tr><th>Since then</th><th class="number">{end ? 'before' : 'live'} · revision {old.revision}</th><th class="number">new · revision {fresh.revision}</th></tr></thead>
      <tbody>
        <tr><td>Runs</td><td class="number">{old.runs.toLocaleString('en')}</td><td class="number">{fresh.runs.toLocaleString('en')}</td></tr>
        <tr><td>Failed</td><td class="number">{of(old.failed, old.runs)}</td><td class="number">{of(fresh.failed, fresh.runs)}</td></tr>
        <tr><td>Rejected, or refused for what they brought</td><td class="number">{of(old.rejected, old.runs)}</td><td class="number">{of(fresh.rejected, fresh.runs)}</td></tr>
        {#each [['Half of the runs took up to', 'p50_us'], ['95 % took up to', 'p95_us'], ['99 % took up to', 'p99_us']] as const as [text, key] (key)}
          <tr><td>{text}</td><td class="number">{took(old[key])}</td><td class="number">{took(fresh[key])}</td></tr>
        {/each}
      </tbody>
      {#if old.answers.length + fresh.answers.length}
        <thead><tr><th>Answers</th><th></th><th></th></tr></thead>
        <tbody>
          {#each answersOf(old, fresh) as answer (answer.text)}
            <tr><td>{answer.text}</td><td class="number">{of(answer.old, old.runs)}</td><td class="number">{of(answer.fresh, fresh.runs)}</td></tr>
          {/each}
        </tbody>
      {/if}
    </table>
    <p class="dim links">
      <a href="/runs?workflow={encodeURIComponent(workflow.name)}">Runs</a> ·
      <a href="/workflows/{encodeURIComponent(workflow.name)}/figures">Figures of each step</a> ·
      <a href="/workflows/{encodeURIComponent(workflow.name)}/history">What differs between the two</a>
    </p>
  </section>
{/if}
{#if wrong}<InlineNotification kind="error" lowContrast title={wrong} on:close={() => (wrong = '')} />{/if}

<Modal
  size="sm"
  open={asking === 'change'}
  modalHeading="What revision {found.value?.revision} serves"
  primaryButtonText="Change"
  secondaryButtonText="Leave"
  hasForm
  on:click:button--secondary={() => (asking = undefined)}
  on:close={() => (asking = undefined)}
  on:submit={() => void change()}
>
  <Sharing bind:asked />
</Modal>

<Modal
  size="xs"
  open={asking === 'finish' || asking === 'take-back'}
  danger={asking === 'take-back'}
  modalHeading={asking === 'finish' ? `Have revision ${found.value?.revision} serve everything` : `Take revision ${found.value?.revision} back`}
  primaryButtonText={asking === 'finish' ? 'Finish' : 'Take back'}
  secondaryButtonText="Leave"
  hasForm
  selectorPrimaryFocus="#gradual-reason"
  on:click:button--secondary={() => (asking = undefined)}
  on:close={() => (asking = undefined)}
  on:submit={() => asking !== 'change' && asking && void act(asking)}
>
  <p class="lead">
    {#if asking === 'finish'}It becomes the live revision. Jobs of revision {found.value?.old.revision} keep it.{:else}Revision {found.value?.old.revision} serves everything again. Jobs that the new one accepted keep it.{/if}
  </p>
  <TextInput id="gradual-reason" labelText="Why, for the others (optional)" maxlength={500} bind:value={reason} />
</Modal>

<style>
  .box {
    padding: 0.75rem;
    font-size: 0.875rem;
  }

  .head {
    display: flex;
    flex-wrap: wrap;
    justify-content: space-between;
    gap: 0.5rem 1rem;
    padding-bottom: 0.75rem;
  }

  .head > div:first-child {
    flex: 1 1 20rem;
  }

  .buttons {
    flex-wrap: wrap;
    gap: 0.5rem;
    align-items: flex-start;
  }

  table {
    width: 100%;
    max-width: 48rem;
    border-collapse: collapse;
  }

  th,
  td {
    padding: 0.375rem 0.5rem 0.375rem 0;
    text-align: left;
    border-bottom: 1px solid var(--cds-ui-03);
  }

  tbody + thead th {
    padding-top: 1rem;
  }

  .number {
    width: 13rem;
    text-align: right;
    font-variant-numeric: tabular-nums;
  }

  .error {
    color: var(--cds-text-error);
  }

  .links,
  .lead {
    padding-top: 0.75rem;
  }

  .lead {
    padding: 0 0 1rem;
  }
</style>
