<script lang="ts">
  /** Keys of callers: made, shown once, rotated, revoked. */
  import { Button, Modal, SkeletonText } from 'carbon-components-svelte';
  import type { Issuers, Key, Keys, MadeKey, UsageReport, Workflows } from '../api/types';
  import { session, Watched } from '../lib/api.svelte';
  import { Attempt } from '../lib/attempt.svelte';
  import { ago, time } from '../lib/show';
  import Chart from '../parts/Chart.svelte';
  import CopyText from '../parts/CopyText.svelte';
  import Copyable from '../parts/Copyable.svelte';
  import Trouble from '../parts/Trouble.svelte';

  let round = $state(0);
  const listed = new Watched<Keys>(() => {
    void round;
    return '/keys';
  }, 10_000);
  const workflows = new Watched<Workflows>(() => '/workflows', undefined);
  let days = $state('7');
  const usage = new Watched<UsageReport>(() => `/usage?days=${days}`, 30_000);
  const issuers = new Watched<Issuers>(() => '/issuers', 10_000);
  let allowance = $state('');
  const allowances = $derived(workflows.value?.allowances ?? []);
  let adding = $state(false);
  let name = $state('');
  let owner = $state('');
  let note = $state('');
  let lasting = $state('');
  let chosen: string[] = $state([]);
  let belongs: string[] = $state([]);
  const tags = $derived([...new Set((workflows.value?.workflows ?? []).flatMap((one) => one.tags ?? []))].sort());
  let made = $state.raw<MadeKey | undefined>(undefined);
  let revoking = $state.raw<Key | undefined>(undefined);

  const left = (key: string) => (usage.value?.meters ?? []).filter((meter) => meter.key === key).flatMap((meter) => meter.left);

  /** Requests by hour, a line for each of the busiest keys, and what was refused. */
  const drawn = $derived.by(() => {
    const rows = usage.value?.usage ?? [];
    if (!rows.length) return undefined;
    const hour = (at: string) => Math.floor(Date.parse(at) / 3_600_000);
    const first = Math.min(...rows.map((row) => hour(row.hour))) - 1;
    const hours = Array.from({ length: hour(new Date().toISOString()) - first + 1 }, (_, index) => first + index);
    const sums = new Map<string, number>();
    for (const row of rows) sums.set(row.key, (sums.get(row.key) ?? 0) + row.requests);
    const busiest = [...sums].sort((one, other) => other[1] - one[1]).slice(0, 6).map(([key]) => key);
    const line = (label: string, of: (row: (typeof rows)[number]) => number) => {
      const values = new Map<number, number>();
      for (const row of rows) values.set(hour(row.hour), (values.get(hour(row.hour)) ?? 0) + of(row));
      return { label, values: hours.map((one) => values.get(one) ?? 0) };
    };
    const lines = busiest.map((key) => line(key, (row) => (row.key === key ? row.requests : 0)));
    return { times: hours.map((one) => one * 3600), lines: [...lines, line('refused', (row) => row.refused)] };
  });

  const asked = new Attempt();
  const attempt = (what: () => Promise<void>) => asked.run(what).then(() => (round += 1));

  const add = () =>
    attempt(async () => {
      made = await session.ask<MadeKey>('POST', '/keys', { name, owner, note, workflows: chosen, tags: belongs, allowance: allowance || null, days: lasting ? Number(lasting) : null });
      adding = false;
      [name, owner, note, lasting, allowance, chosen, belongs] = ['', '', '', '', '', [], []];
    });

  const rotate = (key: Key) =>
    attempt(async () => {
      made = await session.ask<MadeKey>('POST', `/keys/${encodeURIComponent(key.name)}/rotate`, {});
    });

  const revoke = () =>
    attempt(async () => {
      const key = revoking;
      revoking = undefined;
      if (key) await session.ask('DELETE', `/keys/${encodeURIComponent(key.name)}`);
    });
</script>

<svelte:head><title>Keys · Kanzlei</title></svelte:head>

<div class="page">
  <div class="row head">
    <h1>Keys</h1>
    <Button size="small" aria-expanded={adding} on:click={() => (adding = !adding)}>New key</Button>
  </div>
  <p class="dim">Who may call endpoints with <code>access: key</code>. Callers send a key as <code>Authorization: Bearer KEY</code> or in <code>X-Api-Key</code>. <a href="/handbook/access">In the handbook</a></p>
  {#if made}
    <section class="panel made" aria-label="The key" role="status">
      <p><strong>The key {made.name}{made.expires ? `, valid until ${time(made.expires)}` : ''}. It is shown only now.</strong></p>
      <Copyable text={made.key} label="Copy the key" />
      {#if made.former_until}<p>The one before it is valid until {time(made.former_until)}.</p>{/if}
      <div><button type="button" class="link" onclick={() => (made = undefined)}>Done</button></div>
    </section>
  {/if}
  {#if adding}
    <form class="panel" onsubmit={(event) => { event.preventDefault(); void add(); }}>
      <label for="key-name">Name</label>
      <!-- svelte-ignore a11y_autofocus -->
      <input id="key-name" class="control mono" bind:value={name} required pattern="[a-z][a-z0-9\-]*" placeholder="northern-line" autocomplete="off" autofocus />
      <label for="key-owner">Owner</label>
      <input id="key-owner" class="control" bind:value={owner} placeholder="Northern Line" autocomplete="off" />
      <label for="key-note">Note</label>
      <input id="key-note" class="control" bind:value={note} placeholder="What it is for" autocomplete="off" />
      <label for="key-days">Days until it expires</label>
      <input id="key-days" class="control" bind:value={lasting} inputmode="numeric" pattern="[0-9]*" placeholder="never" autocomplete="off" />
      {#if allowances.length}
        <label for="key-allowance">Allowance</label>
        <select id="key-allowance" class="control" bind:value={allowance}>
          <option value="">as entries say</option>
          {#each allowances as one (one.name)}<option value={one.name}>{one.name}: {one.limits}</option>{/each}
        </select>
      {/if}
      <label for="key-workflows">Workflows</label>
      <select id="key-workflows" class="several" multiple size="6" bind:value={chosen} aria-describedby="key-all">
        {#each workflows.value?.workflows ?? [] as one (one.name)}<option value={one.name}>{one.name}</option>{/each}
      </select>
      {#if tags.length}
        <label for="key-tags">Tags</label>
        <select id="key-tags" class="several" multiple size={Math.min(4, tags.length + 1)} bind:value={belongs} aria-describedby="key-all">
          {#each tags as tag (tag)}<option value={tag}>{tag}</option>{/each}
        </select>
      {/if}
      <span></span><span id="key-all" class="dim">{chosen.length || belongs.length ? [...chosen, ...belongs.map((tag) => `all with the tag ${tag}`)].join(', ') : 'None chosen: it is for all that ask for a key.'}</span>
      <span></span><div><Button size="small" type="submit">Make it</Button></div>
    </form>
  {/if}
  {#if asked.error}<Trouble error={asked.error} />{/if}
  {#if listed.error}<Trouble error={listed.error} />{/if}
  {#if listed.value?.keys.length}
    <div class="panel wide">
      <table class="table" aria-label="Keys">
        <thead><tr><th>Key</th><th>Owner</th><th>Workflows</th><th>Allowance</th><th>Made</th><th>Expires</th><th>Last used</th><th><span class="sr">Actions</span></th></tr></thead>
        <tbody>
          {#each listed.value.keys as key (key.name)}
            <tr>
              <td><strong>{key.name}</strong> <span class="mono dim">{key.prefix}…</span>{#if key.note}<br /><span class="dim">{key.note}</span>{/if}</td>
              <td>{key.owner}</td>
              <td>{#each key.workflows as one, index (one)}{index ? ', ' : ''}<a href="/workflows/{one}">{one}</a>{/each}{#each key.tags as tag, index (tag)}{index || key.workflows.length ? ', ' : ''}<span class="dim">tag</span> {tag}{/each}{#if !key.workflows.length && !key.tags.length}<span class="dim">all</span>{/if}</td>
              <td>{#if key.allowance}{key.allowance}{:else}<span class="dim">as entries say</span>{/if}{#each left(key.name) as one (one.policy)}<br /><span class="dim">{one.policy}: {one.left} of {one.of} left</span>{/each}</td>
              <td title={time(key.created)}>{ago(key.created)}</td>
              <td>{key.expires ? time(key.expires) : 'never'}{#if key.former_until}<br /><span class="dim">the one before: {time(key.former_until)}</span>{/if}</td>
              <td>{key.used ? ago(key.used) : 'not yet'}</td>
              <td class="acts">
                <button type="button" class="link" onclick={() => void rotate(key)} aria-label="Rotate {key.name}">Rotate</button>
                <button type="button" class="link" onclick={() => (revoking = key)} aria-label="Revoke {key.name}">Revoke …</button>
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {:else if listed.value}
    <div class="panel empty">
      <p>There are no keys. An endpoint asks for one where its entry says <code>access: key</code> in place of <code>access: open</code>.</p>
      <Button size="small" on:click={() => (adding = true)}>New key</Button>
    </div>
  {:else if !listed.error}
    <div class="panel empty"><SkeletonText paragraph lines={4} /></div>
  {/if}
  {#if issuers.value?.issuers.length}
    <section class="usage" aria-label="Issuers of tokens">
      <h2>Issuers of tokens</h2>
      <p class="dim">Whose tokens callers may show where an entry has <code>access: {'{'}jwt: ISSUER{'}'}</code>. Keys are read when the first token comes.</p>
      <div class="panel wide">
        <table class="table" aria-label="Issuers">
          <thead><tr><th>Issuer</th><th>Its tokens have</th><th>Claims that workflows know</th><th>Allowance</th><th>Keys</th><th>Workflows</th></tr></thead>
          <tbody>
            {#each issuers.value.issuers as issuer (issuer.name)}
              <tr>
                <td><strong>{issuer.name}</strong>{#if issuer.about}<br /><span class="dim">{issuer.about}</span>{/if}</td>
                <td><span class="mono">{issuer.iss}</span><br /><span class="dim">for {issuer.audience.join(', ')}; {issuer.algorithms.join(', ')}</span></td>
                <td class="mono">{issuer.claims.join(', ')}</td>
                <td>{issuer.allowance ?? ''}</td>
                <td>
                  {#if issuer.trouble}<span class="bad">cannot be read: {issuer.trouble}</span><br />{/if}
                  {issuer.keys}{#if issuer.service}<br /><span class="dim">{issuer.read ? `read ${ago(issuer.read)}` : 'not read yet'} from <a href="/services">{issuer.service}</a></span>{:else}<br /><span class="dim">in its document</span>{/if}
                </td>
                <td>{#each issuer.workflows as one, index (one)}{index ? ', ' : ''}<a href="/workflows/{one}">{one}</a>{:else}<span class="dim">none</span>{/each}</td>
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
    </section>
  {/if}
  {#if usage.value && listed.value?.keys.length}
    <section class="usage" aria-label="Usage">
      <div class="row">
        <h2>Usage</h2>
        <label class="sr" for="usage-days">Span</label>
        <select id="usage-days" class="control" bind:value={days}>
          <option value="1">of the last day</option>
          <option value="7">of the last 7 days</option>
          <option value="30">of the last 30 days</option>
        </select>
        <CopyText text="kanzlei usage --days {days} --csv" label="Copy the line that exports it as CSV" />
      </div>
      {#if drawn}<Chart title="Requests of keys" unit="an hour" times={drawn.times} series={drawn.lines} />
      {:else}<p class="dim">No key asked for anything in this time.</p>{/if}
    </section>
  {/if}
</div>
<Modal size="xs" danger open={revoking !== undefined} modalHeading="Revoke {revoking?.name}?" primaryButtonText="Revoke it" secondaryButtonText="Leave"
  on:click:button--secondary={() => (revoking = undefined)} on:close={() => (revoking = undefined)} on:submit={() => void revoke()}>
  <p>Requests with it are answered 401 from now on, also those with the one before it. Jobs that it began run to their end.</p>
</Modal>

<style>
  .head {
    justify-content: space-between;
  }

  .made,
  .empty {
    padding: 0.75rem;
    margin: 0.75rem 0;
    display: grid;
    grid-template-columns: minmax(0, 1fr);
    gap: 0.5rem;
    font-size: 0.875rem;
    justify-items: start;
  }

  .made {
    border-left: 4px solid var(--cds-support-02);
  }

  form {
    display: grid;
    grid-template-columns: max-content minmax(0, 28rem);
    gap: 0.375rem 0.75rem;
    align-items: center;
    padding: 0.75rem;
    margin: 0.75rem 0;
    font-size: 0.8125rem;
  }

  .several {
    background: var(--cds-field-01);
    color: inherit;
    border: 1px solid var(--cds-ui-04);
    font: inherit;
  }

  .wide {
    overflow-x: auto;
    margin-top: 0.75rem;
  }

  .acts {
    white-space: nowrap;
  }

  .usage {
    margin-top: 1rem;
    display: grid;
    grid-template-columns: minmax(0, 1fr);
    gap: 0.5rem;
  }

  .usage h2 {
    font-size: 1rem;
  }

  .bad {
    color: var(--cds-text-error);
  }
</style>
