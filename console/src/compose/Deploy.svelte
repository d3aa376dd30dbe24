<script lang="ts">
  /** Putting a draft live: what changes, what is found, what is missing; then its address, ready to copy and to call. */
  import { Button } from 'carbon-components-svelte';
  import { onMount } from 'svelte';
  import type { Deployed, DeployedDocument, Diagnostic, Rehearsal, Workflow } from '../api/types';
  import { Refused, session } from '../lib/api.svelte';
  import Compared from '../parts/Comparison.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import { changed, form } from '../lib/gradual';
  import Sharing from '../parts/Sharing.svelte';
  import Calling from './Calling.svelte';
  import type { Composer } from './composer.svelte';

  let { composer, ondeployed }: { composer: Composer; ondeployed: () => void } = $props();
  let preview = $state.raw<Deployed | undefined>(undefined);
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
  /** Whether the live revision stays, and what the new one serves then. */
  let gradual = $state(false);
  let asked = $state(form());

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

  let rehearsal = $state.raw<Rehearsal | undefined>(undefined);
  const failing = $derived(rehearsal?.cases.filter((one) => !one.passed).length ?? 0);

  /** Runs the cases; a draft with errors has none to run. */
  async function rehearse() {
    const asked = { workflow: composer.sheet?.name || composer.name, documents: composer.question().documents, files: composer.files };
    rehearsal = await session.ask<Rehearsal>('POST', '/rehearsals', asked).catch(() => undefined);
  }

  onMount(() => {
    void look();
    void rehearse();
  });

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
      const deployed = await session.ask<Deployed>('POST', '/deploys', { documents: [], drafts: drafts(), gradual: gradual ? changed(undefined, asked) : undefined });
      done = deployed.deployed.find((one) => one.kind === 'workflow' && one.name === composer.name);
      if (gradual) await composer.reload();
      else composer.deployed(done?.revision ?? 0);
      live = await session.get<Workflow>(base);
      ondeployed();
    } catch (refused) {
      error = refused as Refused;
      findings = error.findings.length ? error.findings : findings;
    } finally {
      busy = false;
    }
  }

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
</script>

{#if done}
  <section class="panel live" aria-label="Deployed" role="status">
    <h2>Revision {done.revision} {done.gradual ? 'serves a share' : 'is live'}</h2>
    {#if live}<Calling workflow={live} />{/if}
    <div class="row">
      <Button kind="ghost" size="small" href="{base}/runs">Its runs</Button>
      <Button kind="ghost" size="small" href={base}>The sheet</Button>
      {#if done.gradual}<Button size="small" href="{base}/gradual">Compare the two</Button>{/if}
      {#if before !== undefined && !done.gradual}<Button kind="danger-ghost" size="small" disabled={busy} on:click={() => void back()}>Back to revision {before}</Button>{/if}
    </div>
  </section>
{:else}
  <h2>Deploy {composer.name}{composer.liveRevision === undefined ? ' for the first time' : ''}</h2>
  {#if composer.live === undefined}
    <p class="panel changes">Everything is new: {composer.steps.length} steps.</p>
  {:else if composer.text === composer.live}
    <p class="panel changes dim">Nothing differs from what is live.</p>
  {:else}
    <Compared before={composer.live} after={composer.text} names={[`${composer.name}@${composer.liveRevision}`, `${composer.name}@draft`]} />
  {/if}
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
    {#if rehearsal}
      {@const failed = rehearsal.cases.filter((one) => !one.passed)}
      <div class="fact"><span>{failed.length || rehearsal.diagnostics.length ? '✗' : rehearsal.cases.length ? '✓' : '·'} Cases</span>
        <div>
          {#if failed.length}<p class="error">{failed.length} of {rehearsal.cases.length} fail: <a href="{base}/cases">{failed.map((one) => one.name).join(', ')}</a></p>
          {:else if rehearsal.cases.length}<p>{rehearsal.cases.length} of {rehearsal.cases.length} pass</p>
          {:else if rehearsal.diagnostics.length}<p class="error">the <a href="{base}/cases">cases</a> have errors and were not run</p>
          {:else}<p class="dim">there are none; <a href="{base}/cases">write the first</a></p>{/if}
        </div>
      </div>
    {/if}
    {#if own}
      <div class="fact"><span>{own.clients.some((one) => one.breaking) ? '!' : '✓'} Clients</span>
        <div>{#each own.clients as client (client.text)}<p class:error={client.breaking}>{client.breaking ? 'breaking: ' : ''}{client.text}</p>{:else}<p>the description of its addresses does not change</p>{/each}</div>
      </div>
      {#if own.databases?.length}
        <div class="fact"><span>! Databases</span>
          <div>{#each own.databases as line (line)}<p>{line}</p>{/each}</div>
        </div>
      {/if}
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
  {#if composer.liveRevision !== undefined && !along.length}
    <fieldset class="panel sharing">
      <legend>Who gets it</legend>
      <label><input type="radio" name="share" value={false} bind:group={gradual} /> Everyone: it takes the place of revision {composer.liveRevision}</label>
      <label><input type="radio" name="share" value={true} bind:group={gradual} /> A share: revision {composer.liveRevision} stays live beside it</label>
      {#if gradual}<div class="share"><Sharing bind:asked /></div>{/if}
    </fieldset>
  {/if}
  {#if error}<Trouble {error} />{/if}
  <div class="row buttons">
    <Button disabled={busy || !preview || (composer.live !== undefined && composer.live === composer.text && !along.length)} on:click={() => void deploy()}>{busy ? 'Deploying …' : `Deploy ${own ? `revision ${own.revision}` : ''}${failing ? ` although ${failing} case${failing === 1 ? ' fails' : 's fail'}` : ''}`}</Button>
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

  .fact {
    display: grid;
    grid-template-columns: 9rem minmax(0, 1fr);
    gap: 0.75rem;
    padding: 0.375rem 0;
    line-height: 1.25rem;
    border-bottom: 1px solid var(--cds-ui-03);
  }

  .error {
    color: var(--cds-text-error);
  }

  .along {
    display: block;
    min-height: 1.5rem;
  }

  input[type='password'] {
    min-width: 16rem;
  }

  legend {
    float: left;
    padding: 0;
  }

  fieldset {
    border: 0;
  }

  .sharing {
    padding: 0.5rem 0.75rem;
    margin-bottom: 0.75rem;
    font-size: 0.8125rem;
  }

  .sharing legend {
    width: 100%;
    font-weight: 600;
  }

  .sharing label {
    display: block;
    clear: both;
    min-height: 1.5rem;
  }

  .share {
    padding-top: 0.75rem;
  }

  .buttons {
    flex-wrap: wrap;
    gap: 0.5rem;
  }
</style>
