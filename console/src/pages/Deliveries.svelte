<script lang="ts">
  /** Messages of senders as they arrived: filtered, looked at, processed again; and the inputs that they suggest. */
  import { Button, Modal, Select, SelectItem, SkeletonText } from 'carbon-components-svelte';
  import type { DeliveryPage, Drafts, Processed, Proposed, Workflows } from '../api/types';
  import { session, Watched } from '../lib/api.svelte';
  import { Attempt } from '../lib/attempt.svelte';
  import { router } from '../lib/router.svelte';
  import DeliveryTable from '../parts/DeliveryTable.svelte';
  import ProposedInputs from '../parts/ProposedInputs.svelte';
  import Trouble from '../parts/Trouble.svelte';

  const workflow = $derived(router.query.get('workflow') ?? '');
  const became = $derived(router.query.get('state') ?? '');
  const since = $derived(router.query.get('since') ?? '');
  const before = $derived(router.query.get('before') ?? '');
  let round = $state(0);
  let proposed = $state.raw<Proposed | undefined>(undefined);
  let selected = $state.raw<Processed | undefined>(undefined);
  let done = $state.raw<Processed | undefined>(undefined);
  let asReceived = $state(false);

  const chosen = $derived(Object.fromEntries(Object.entries({ workflow, state: became, since }).filter(([, value]) => value)));
  const query = $derived(new URLSearchParams({ ...chosen, ...(before ? { before } : {}) }).toString());
  const listed = new Watched<DeliveryPage>(() => {
    void round;
    return `/deliveries${query ? `?${query}` : ''}`;
  }, 2500);
  const workflows = new Watched<Workflows>(() => '/workflows', undefined);
  const drafts = new Watched<Drafts>(() => '/drafts', undefined);
  /** Workflows that are live, and drafts that may collect messages. */
  const names = $derived([
    ...new Set([...(workflows.value?.workflows ?? []).map((one) => one.name), ...(drafts.value?.drafts ?? []).filter((one) => one.kind === 'workflow').map((one) => one.name)]),
  ].sort());

  function go(change: Record<string, string>) {
    proposed = undefined;
    done = undefined;
    router.filters({ ...change, before: '' });
  }

  const asked = new Attempt();
  const propose = () => asked.run(async () => void (proposed = await session.ask<Proposed>('POST', '/deliveries/input', { workflow })));
  const count = () => asked.run(async () => void (selected = await session.ask<Processed>('POST', '/deliveries/process', { ...chosen, dry_run: true })));
  const process = () =>
    asked.run(async () => {
      selected = undefined;
      done = await session.ask<Processed>('POST', '/deliveries/process', { ...chosen, as_received: asReceived });
      round += 1;
    });
  const failed = $derived((done?.deliveries ?? []).filter((one) => one.problem));
</script>

<svelte:head><title>Deliveries · Kanzlei</title></svelte:head>

<div class="page">
  <h1>Deliveries</h1>
  <p class="dim">Messages that arrived at webhooks, as they were sent. <a href="/handbook/webhooks">In the handbook</a></p>
  <div class="filters">
    <Select labelText="Workflow" size="sm" selected={workflow} on:update={(event) => go({ workflow: String(event.detail ?? '') })}>
      <SelectItem value="" text="all" />
      {#each names as name (name)}<SelectItem value={name} text={name} />{/each}
      {#if workflow && !names.includes(workflow)}<SelectItem value={workflow} text={workflow} />{/if}
    </Select>
    <Select labelText="State" size="sm" selected={became} on:update={(event) => go({ state: String(event.detail ?? '') })}>
      <SelectItem value="" text="all" />
      {#each ['accepted', 'repeated', 'unfit', 'captured'] as each (each)}<SelectItem value={each} text={each} />{/each}
    </Select>
    <Select labelText="Arrived" size="sm" selected={since} on:update={(event) => go({ since: String(event.detail ?? '') })}>
      <SelectItem value="" text="at any time" />
      <SelectItem value="15m" text="in the last 15 minutes" />
      <SelectItem value="2h" text="in the last 2 hours" />
      <SelectItem value="24h" text="in the last 24 hours" />
      <SelectItem value="7d" text="in the last 7 days" />
    </Select>
    <div class="row acts">
      {#if workflow}<Button size="small" kind="tertiary" on:click={() => void propose()}>Propose inputs</Button>{/if}
      {#if Object.keys(chosen).length && listed.value?.deliveries.length}<Button size="small" kind="ghost" on:click={() => void count()}>Process these again …</Button>{/if}
      <a href="/runs?state=refused&status=401{workflow ? `&workflow=${encodeURIComponent(workflow)}` : ''}">Messages that were not proven</a>
    </div>
  </div>
  {#if asked.error}<Trouble error={asked.error} />{/if}
  {#if listed.error}<Trouble error={listed.error} />{/if}
  {#if proposed}<ProposedInputs {proposed} {workflow} onclose={() => (proposed = undefined)} />{/if}
  {#if done}
    <section class="panel said" role="status">
      <p>{done.deliveries.length - failed.length} of {done.found} are processed again; <a href="/jobs{workflow ? `?workflow=${encodeURIComponent(workflow)}` : ''}">their jobs</a>.</p>
      {#each failed.slice(0, 10) as one (one.delivery)}<p><a class="mono" href="/deliveries/{one.delivery}">…{one.delivery.slice(-12)}</a> {one.problem?.title}: {one.problem?.errors?.[0]?.detail ?? one.problem?.detail ?? ''}</p>{/each}
      {#if failed.length > 10}<p class="dim">and {failed.length - 10} more</p>{/if}
    </section>
  {/if}
  {#if listed.value?.deliveries.length}
    <DeliveryTable deliveries={listed.value.deliveries} />
    <div class="row pages">
      {#if before}<Button kind="ghost" size="small" on:click={() => router.filters({ before: '' })}>Newest</Button>{/if}
      {#if listed.value.next_before}<Button kind="ghost" size="small" on:click={() => router.filters({ before: listed.value?.next_before ?? '' })}>Older</Button>{/if}
    </div>
  {:else if listed.value}
    <div class="panel said">
      {#if Object.keys(chosen).length}
        <p>No such deliveries. <a href="/deliveries">Show all</a></p>
        {#if workflow}<p>To see what a sender sends before anything is deployed, open the address of the draft and enter it there: <a href="/workflows/{workflow}">{workflow}</a></p>{/if}
      {:else}
        <p>No message has arrived yet. A workflow receives them with an entry such as:</p>
        <pre>{'entries:\n  - webhook: /from/customs\n    proof: {standard: customs-webhook}'}</pre>
      {/if}
    </div>
  {:else if !listed.error}
    <div class="panel said"><SkeletonText paragraph lines={6} /></div>
  {/if}
</div>
<Modal size="xs" open={selected !== undefined} modalHeading="Process {selected?.found ?? 0} deliveries again?" primaryButtonText="Process them" secondaryButtonText="Leave"
  primaryButtonDisabled={!selected?.found} on:click:button--secondary={() => (selected = undefined)} on:close={() => (selected = undefined)} on:submit={() => void process()}>
  <p>Each becomes a job of its own, the oldest first{selected?.more ? '; there are more than one call processes' : ''}. Repetitions among them are processed too.</p>
  <label class="row"><input type="checkbox" bind:checked={asReceived} /> with the revision that received each, not the live one</label>
</Modal>

<style>
  .filters {
    display: flex;
    flex-wrap: wrap;
    gap: 1rem;
    align-items: end;
    margin: 1rem 0;
  }

  .filters :global(.bx--form-item) {
    flex: 0 0 11rem;
  }

  .acts {
    flex-wrap: wrap;
    font-size: 0.875rem;
  }

  .said {
    padding: 0.75rem;
    margin: 0.75rem 0;
    font-size: 0.875rem;
  }

  .pages {
    margin-top: 0.5rem;
  }
</style>
