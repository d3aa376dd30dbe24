<script lang="ts">
  import { Button, InlineNotification, Modal, Select, SelectItem, SkeletonText, Tag, TextInput } from 'carbon-components-svelte';
  import type { Alert, Alerts } from '../api/types';
  import { measures, span as spanOf, target } from '../lib/alerts';
  import { Refused, session, Watched } from '../lib/api.svelte';
  import { ago, count, time, took } from '../lib/show';
  import Trouble from '../parts/Trouble.svelte';
  import Words from '../parts/Words.svelte';

  let round = $state(0);
  let wrong = $state('');
  let silencing: string | undefined = $state(undefined);
  let span = $state('2h');
  let reason = $state('');

  const shown = new Watched<Alerts>(() => {
    void round;
    return '/alerts';
  }, 5000);
  /** What has begun comes first. */
  const sorted = $derived([...(shown.value?.alerts ?? [])].sort((a, b) => order(a) - order(b)));

  function order(alert: Alert): number {
    return { on: 0, rising: 1, off: 2 }[alert.state];
  }

  async function change(method: string, name: string, body?: unknown) {
    wrong = '';
    silencing = undefined;
    try {
      await session.ask(method, `/alerts/${encodeURIComponent(name)}/silence`, body);
    } catch (error) {
      wrong = error instanceof Refused ? error.message : String(error);
    }
    reason = '';
    round += 1;
  }
</script>

<svelte:head><title>Alerts · Kanzlei</title></svelte:head>

<div class="page">
  <h1>Alerts</h1>
  {#if shown.error}<Trouble error={shown.error} />{/if}
  {#if wrong}<InlineNotification kind="error" lowContrast title={wrong} on:close={() => (wrong = '')} />{/if}
  {#if shown.value && shown.value.alerts.length > 0}
    <div class="panel">
      <table class="table">
        <thead>
          <tr><th>State</th><th>Alert</th><th>Of</th><th>Condition</th><th>Measures</th><th>Notice</th><th><span class="sr">Actions</span></th></tr>
        </thead>
        <tbody>
          {#each sorted as alert (alert.name)}
            <tr>
              <td class="short">
                <Tag type={alert.state === 'on' ? 'red' : alert.state === 'rising' ? 'warm-gray' : 'green'} size="sm">{alert.state}</Tag>
                {#if alert.since}<div class="dim" title={time(alert.since)}>{ago(alert.since)}</div>{/if}
              </td>
              <td><strong>{alert.name}</strong><div class="dim about"><Words text={alert.about} /></div></td>
              <td class="short"><span class="dim">{alert.kind}</span> <a href={target(alert.kind, alert.of)}>{alert.of}</a></td>
              <td><code>{alert.when}</code>{#if alert.kind !== 'allowance'}<div class="dim">over {spanOf(alert.over_us)}</div>{/if}</td>
              <td>
                {#if alert.fault}<span class="fault">{alert.fault}</span>{:else}{measures(alert.measures, alert.when)}{/if}
              </td>
              <td>
                {#if alert.run}<a href="/workflows/{alert.run}">{alert.run}</a>{:else}<span class="dim">none</span>{/if}
                {#if alert.silence}
                  <div class="dim" title={alert.silence.reason}>silenced by {alert.silence.by} until {time(alert.silence.until)}: {alert.silence.reason}</div>
                {:else if alert.quiet}<div class="dim">quiet hours</div>{/if}
              </td>
              <td class="acts">
                {#if alert.silence}
                  <Button size="small" kind="ghost" on:click={() => void change('DELETE', alert.name)}>Announce again</Button>
                {:else}
                  <Button size="small" kind="ghost" on:click={() => (silencing = alert.name)}>Silence …</Button>
                {/if}
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
    <h2>When alerts lasted</h2>
    {#if shown.value.spans.length > 0}
      <div class="panel">
        <table class="table">
          <thead><tr><th>Alert</th><th>Began</th><th>Lasted</th><th class="number">Notices</th><th>Measures when it began</th></tr></thead>
          <tbody>
            {#each shown.value.spans as one (one.alert + one.began)}
              <tr>
                <td>{one.alert}</td>
                <td class="short">{time(one.began)}</td>
                <td class="short">
                  {#if one.ended}{took((Date.parse(one.ended) - Date.parse(one.began)) * 1000)}{:else}<Tag type="red" size="sm">lasts</Tag>{/if}
                </td>
                <td class="number">{count(one.notices)}</td>
                <td>{measures(one.measures)}</td>
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
    {:else}
      <p class="dim">None has begun yet.</p>
    {/if}
    <p class="dim foot">
      {#if shown.value.checked}Measured {ago(shown.value.checked)}, every ten seconds by one process.{:else}Not measured yet: a process that works does so every ten seconds.{/if}
    </p>
  {:else if shown.value}
    <div class="panel empty">
      <p>No alert is live. An alert is a document with a condition over what a workflow, a lane, a service, a timetable or an allowance did lately; see <a href="/handbook/alerts">Alerts</a> in the handbook.</p>
    </div>
  {:else if !shown.error}
    <div class="panel empty"><SkeletonText paragraph lines={6} /></div>
  {/if}
</div>

<Modal
  size="xs"
  open={silencing !== undefined}
  modalHeading="Silence {silencing}"
  primaryButtonText="Silence"
  primaryButtonDisabled={reason.trim() === ''}
  secondaryButtonText="Leave"
  hasForm
  selectorPrimaryFocus="#silence-reason"
  on:click:button--secondary={() => (silencing = undefined)}
  on:close={() => (silencing = undefined)}
  on:submit={() => silencing && void change('PUT', silencing, { for: span, reason })}
>
  <p class="lead">The alert still begins and ends; nothing is announced meanwhile.</p>
  <Select labelText="For" bind:selected={span}>
    {#each [['30min', '30 minutes'], ['2h', '2 hours'], ['8h', '8 hours'], ['1d', 'a day'], ['7d', 'a week'], ['30d', '30 days']] as [value, text] (value)}
      <SelectItem {value} {text} />
    {/each}
  </Select>
  <div class="gap"></div>
  <TextInput id="silence-reason" labelText="Why, for the others" placeholder="The registry is being moved" maxlength={300} bind:value={reason} />
</Modal>

<style>
  h1 {
    margin-bottom: 1rem;
  }

  h2 {
    margin: 1.5rem 0 0.5rem;
    font-size: 1.125rem;
  }

  .short,
  .acts {
    white-space: nowrap;
  }

  .acts {
    text-align: right;
  }

  .acts :global(.bx--btn) {
    padding: 0 0.5rem;
    min-width: 0;
  }

  .dim {
    color: var(--cds-text-02);
    font-size: 0.8125rem;
  }

  .about {
    max-width: 22rem;
  }

  .fault {
    color: var(--cds-support-01);
  }

  .number {
    text-align: right;
  }

  code {
    white-space: pre-wrap;
  }

  .foot,
  .lead {
    margin: 1rem 0;
  }

  .gap {
    height: 1rem;
  }

  .empty {
    padding: 1rem;
  }
</style>
