<script lang="ts">
  /** Putting a draft live: what changes, what is found, what is missing; then its address, ready to copy and to call. */
  import { Button } from 'carbon-components-svelte';
  import { onMount } from 'svelte';
  import type { Comparison, Deployed, DeployedDocument, Diagnostic, Secrets, Workflow } from '../api/types';
  import { Refused, session } from '../lib/api.svelte';
  import { changeMark, changeNumber } from '../lib/compare';
  import { line } from '../lib/show';
  import Copyable from '../parts/Copyable.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import type { Composer } from './composer.svelte';

  let { composer, ondeployed }: { composer: Composer; ondeployed: () => void } = $props();
  let preview = $state.raw<Deployed | undefined>(undefined);
  let differences: Comparison | undefined = $state.raw(undefined);
  let findings: Diagnostic[] = $state.raw([]);
  let missing: string[] = $state.raw([]);
  let error: Refused | undefined = $state.raw(undefined);
  let busy = $state(false);
  let done: DeployedDocument | undefined = $state.raw(undefined);
  let before: number | undefined = $state(undefined);
  let along: string[] = $state([]);
  let secret: Record<string, string> = $state({});
  /** What a secret may be used for. */
  let purposes = $state('signing');
  let live: Workflow | undefined = $state.raw(undefined);
  let answer: { status: number; text: string; run: string | null } | undefined = $state.raw(undefined);
  let sent = $state('');

  const base = $derived(`/workflows/${encodeURIComponent(composer.name)}`);
  const own = $derived(preview?.deployed.find((one) => one.kind === 'workflow' && one.name === composer.name));
  const others = $derived(composer.others.map((one) => one.path.replace(/^drafts\//, '').replace(/\.yaml$/, '')));

  function drafts() {
    return [{ kind: 'workflow', name: composer.name }, ...along.map((key) => ({ kind: key.slice(0, key.indexOf('/')), name: key.slice(key.indexOf('/') + 1) }))];
  }

  async function look() {
    error = undefined;
    findings = [];
    missing = [];
    await composer.settled();
    await composer.save();
    try {
      if (composer.live !== undefined) {
        differences = await session.ask<Comparison>('POST', '/compare', { before: composer.live, after: composer.text });
      }
      preview = await session.ask<Deployed>('POST', '/deploys', { documents: [], drafts: drafts(), preview: true });
      findings = preview.warnings;
    } catch (refused) {
      preview = undefined;
      if (refused instanceof Refused && refused.findings.length) {
        findings = refused.findings;
        missing = [...new Set(findings.filter((one) => one.code === 'missing-secret').map((one) => /`([^`]+)`/.exec(one.message)?.[1] ?? ''))].filter(Boolean);
      } else error = refused instanceof Refused ? refused : new Refused(0, 'It failed', String(refused));
    }
  }

  onMount(() => void look());

  async function setSecret(name: string) {
    try {
      await session.ask('PUT', `/secrets/${encodeURIComponent(name)}`, { value: secret[name] ?? '', for: purposes.split(/[\s,]+/).filter(Boolean) });
      secret = {};
      await look();
    } catch (refused) {
      error = refused as Refused;
    }
  }

  async function deploy() {
    busy = true;
    error = undefined;
    before = composer.liveRevision;
    try {
      const deployed = await session.ask<Deployed>('POST', '/deploys', { documents: [], drafts: drafts() });
      done = deployed.deployed.find((one) => one.kind === 'workflow' && one.name === composer.name);
      composer.deployed(done?.revision ?? 0);
      live = await session.get<Workflow>(base);
      sent = JSON.stringify(sampleInput(), null, 1).replace(/\n\s*/g, ' ');
      ondeployed();
    } catch (refused) {
      error = refused as Refused;
      findings = error.findings.length ? error.findings : findings;
    } finally {
      busy = false;
    }
  }

  /** An input that fits the schemas. */
  function sampleInput(): Record<string, unknown> {
    const sample = (schema: Record<string, unknown>) => schema.default ?? (schema.examples as unknown[] | undefined)?.[0] ?? (schema.enum as unknown[] | undefined)?.[0];
    const all = (live?.input ?? []).map((input) => [input.name, sample(input.schema as Record<string, unknown>)] as const);
    return Object.fromEntries(all.filter(([, value]) => value !== undefined));
  }

  /** The body of the curl line. */
  function example(): string {
    const curl = done?.endpoints[0]?.curl ?? '';
    return /--json '((?:[^']|'\\'')*)'/.exec(curl)?.[1]?.replace(/'\\''/g, "'") ?? '';
  }

  function fetchLines(): string {
    const endpoint = done?.endpoints[0];
    if (!endpoint) return '';
    const url = /https?:\/\/[^\s'"]+/.exec(endpoint.curl)?.[0] ?? endpoint.url;
    const body = example();
    return body
      ? `const response = await fetch('${url}', {\n  method: '${endpoint.method}',\n  headers: { 'Content-Type': 'application/json' },\n  body: JSON.stringify(${body}),\n});\nif (!response.ok) throw await response.json();\nconst answer = await response.json();`
      : `const response = await fetch('${url}'${endpoint.method === 'GET' ? '' : `, { method: '${endpoint.method}' }`});\nif (!response.ok) throw await response.json();\nconst answer = await response.json();`;
  }

  const members = (value: unknown): [string, unknown][] => Object.entries((value ?? {}) as Record<string, unknown>);

  async function back() {
    if (before === undefined) return;
    busy = true;
    try {
      const { text } = await session.get<{ text: string }>(`/revisions/workflow/${encodeURIComponent(composer.name)}/${before}`);
      const deployed = await session.ask<Deployed>('POST', '/deploys', { documents: [{ path: `${composer.name}.yaml`, text }] });
      done = deployed.deployed.find((one) => one.name === composer.name);
      composer.text = text;
      composer.deployed(done?.revision ?? 0);
      await composer.refresh();
      before = undefined;
      ondeployed();
    } catch (refused) {
      error = refused as Refused;
    } finally {
      busy = false;
    }
  }

  /** Sends the request as the console's page cannot: another origin. A job starts the live workflow. */
  async function send() {
    answer = undefined;
    try {
      const input = sent.trim() ? JSON.parse(sent) : {};
      const started = await session.ask<{ id?: string; job?: { id: string } }>('POST', '/jobs', { workflow: composer.name, input });
      const id = started.id ?? started.job?.id ?? '';
      answer = { status: 202, text: `Job ${id} runs it.`, run: id };
    } catch (refused) {
      error = refused instanceof Refused ? refused : new Refused(0, 'The request cannot be read', String(refused));
    }
  }
</script>

{#if done}
  <section class="panel live" aria-label="Deployed" role="status">
    <h2>Revision {done.revision} is live</h2>
    {#each done.endpoints as endpoint (endpoint.method + endpoint.path)}
      <Copyable text="{endpoint.method} {endpoint.url}" label="Copy the address" />
      <Copyable text={endpoint.curl} label="Copy a request that works" />
    {:else}
      <p class="dim">It has no address of its own: other workflows invoke it, or a timetable starts it.</p>
    {/each}
    {#if done.endpoints.length}
      <details><summary>Lines for fetch</summary><Copyable text={fetchLines()} label="Copy the lines for fetch" /></details>
    {/if}
    {#if live?.input.length}
      <details>
        <summary>What a request holds</summary>
        <table class="table"><tbody>
          {#each live.input as input (input.name)}
            <tr><td class="mono">{input.name}</td><td>{input.required ? 'required' : 'optional'}</td><td class="mono">{members(input.schema).map(([key, value]) => `${key} ${line(value)}`).join(', ')}</td></tr>
          {/each}
        </tbody></table>
      </details>
    {/if}
    <div class="send">
      <label for="send-input">Run it once for real, with this input</label>
      <textarea id="send-input" class="control mono" rows="3" bind:value={sent} spellcheck="false"></textarea>
      <div class="row">
        <Button size="small" kind="tertiary" on:click={() => void send()}>Run it</Button>
        {#if answer}<span role="status">{answer.text} <a href="/jobs/{answer.run}">Watch it</a></span>{/if}
      </div>
    </div>
    <div class="row">
      <Button kind="ghost" size="small" href="{base}/runs">Its runs</Button>
      <Button kind="ghost" size="small" href={base}>The sheet</Button>
      {#if before !== undefined}<Button kind="danger-ghost" size="small" disabled={busy} on:click={() => void back()}>Back to revision {before}</Button>{/if}
    </div>
  </section>
{:else}
  <h2>Deploy {composer.name}{composer.liveRevision === undefined ? ' for the first time' : ''}</h2>
  <div class="panel changes">
    {#if composer.live === undefined}
      <p>Everything is new: {composer.steps.length} steps.</p>
    {:else if differences?.steps.length === 0 && composer.text === composer.live}
      <p class="dim">Nothing differs from what is live.</p>
    {:else}
      {#each differences?.steps ?? [] as step, index (index)}
        <div class="change">
          <span class="mono dim">{changeMark(step)} {changeNumber(step)}</span>
          <span>{step.title}{step.change === 'moved' ? ' (moved)' : step.change === 'added' ? ' (new)' : step.change === 'removed' ? ' (gone)' : ''}
            {#each step.rows ?? [] as row (row.key)}<span class="difference"><span class="dim">{row.key}</span> <del>{row.before || 'nothing'}</del> <ins>{row.after || 'nothing'}</ins></span>{/each}
          </span>
        </div>
      {:else}
        <p class="dim">No step differs; what stands above them does.</p>
      {/each}
    {/if}
  </div>
  <div class="panel facts">
    <div class="fact"><span>{findings.some((one) => one.severity === 'error') ? '✗' : '✓'} Check</span>
      <div>
        {#each findings as finding, index (index)}
          <p class:error={finding.severity === 'error'}>{finding.message} <span class="dim">{finding.path.endsWith(`${composer.name}.yaml`) ? `line ${finding.line}` : `${finding.path}:${finding.line}`}</span></p>
        {:else}<p>no errors, no warnings</p>{/each}
      </div>
    </div>
    {#each missing as name (name)}
      <form class="fact" onsubmit={(event) => { event.preventDefault(); void setSecret(name); }}>
        <label for="secret-{name}">✗ Secret <span class="mono">{name}</span></label>
        <div class="row"><input id="secret-{name}" class="control" type="password" autocomplete="off" bind:value={secret[name]} placeholder="Its value; it is never shown again" /><input class="control" aria-label="What it may be used for" title="signing, or addresses below which it is sent" bind:value={purposes} /><Button size="small" type="submit">Set it</Button></div>
      </form>
    {/each}
    {#if own}
      <div class="fact"><span>{own.clients.some((one) => one.breaking) ? '!' : '✓'} Clients</span>
        <div>{#each own.clients as client (client.text)}<p class:error={client.breaking}>{client.breaking ? 'breaking: ' : ''}{client.text}</p>{:else}<p>the description of its addresses does not change</p>{/each}</div>
      </div>
      <div class="fact"><span>{own.callers.length ? '!' : '✓'} Callers</span>
        <div>{#if own.callers.length}{own.callers.join(', ')} invoke or queue it{:else}no other workflow invokes it{/if}</div>
      </div>
    {/if}
    {#if others.length}
      <fieldset class="fact"><legend>Other drafts</legend>
        <div>{#each others as other (other)}<label class="along"><input type="checkbox" value={other} bind:group={along} onchange={() => void look()} /> {other}</label>{/each}</div>
      </fieldset>
    {/if}
  </div>
  {#if error}<Trouble {error} />{/if}
  <div class="row buttons">
    <Button disabled={busy || !preview || (composer.live !== undefined && composer.live === composer.text && !along.length)} on:click={() => void deploy()}>{busy ? 'Deploying …' : `Deploy ${own ? `revision ${own.revision}` : ''}`}</Button>
    <Button kind="tertiary" href={base}>Keep as a draft</Button>
    {#if composer.version !== undefined}<Button kind="danger-ghost" on:click={() => void composer.discard().then(() => look())}>Discard the draft</Button>{/if}
  </div>
{/if}

<style>
  h2 {
    font-size: 1rem;
    font-weight: 600;
    padding: 0.25rem 0;
  }

  .changes,
  .facts,
  .live {
    padding: 0.5rem 0.75rem;
    margin-bottom: 0.75rem;
    font-size: 0.8125rem;
  }

  .live {
    display: grid;
    gap: 0.5rem;
    border-left: 4px solid var(--cds-support-02);
  }

  .panel p {
    font-size: 0.8125rem;
    line-height: 1.25rem;
  }

  .change,
  .fact {
    display: grid;
    grid-template-columns: 9rem minmax(0, 1fr);
    gap: 0.75rem;
    padding: 0.375rem 0;
    line-height: 1.25rem;
    border-bottom: 1px solid var(--cds-ui-03);
  }

  .difference {
    display: block;
  }

  del {
    background: var(--error-back);
    color: var(--error-front);
  }

  ins {
    background: #a7f0ba;
    color: #044317;
    text-decoration: none;
  }

  .error {
    color: var(--cds-text-error);
  }

  .along {
    display: block;
    min-height: 1.5rem;
  }

  .send {
    display: grid;
    gap: 0.25rem;
  }

  input[type='password'] {
    min-width: 16rem;
  }

  summary {
    cursor: pointer;
    min-height: 1.5rem;
  }

  legend {
    float: left;
    padding: 0;
  }

  fieldset {
    border: 0;
  }

  .buttons {
    gap: 0.5rem;
  }
</style>
