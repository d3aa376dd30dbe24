<script lang="ts">
  /** A service from its OpenAPI document, or from answers it gave: looked at, then deployed or saved as a draft. */
  import { Button } from 'carbon-components-svelte';
  import type { Deployed, ServiceBegun } from '../api/types';
  import { Refused, session } from '../lib/api.svelte';
  import Trouble from './Trouble.svelte';

  let { ondone }: { ondone: (name: string) => void } = $props();
  let how = $state<'description' | 'samples'>('description');
  let name = $state('');
  let base = $state('');
  let description = $state('');
  let samples = $state([{ call: 'GET /now/{place}', status: 200, body: '' }]);
  let begun = $state.raw<ServiceBegun | undefined>(undefined);
  let document = $state('');
  let error = $state.raw<Refused | undefined>(undefined);
  let busy = $state(false);

  async function attempt(what: () => Promise<void>) {
    busy = true;
    error = undefined;
    try {
      await what();
    } catch (fault) {
      error = fault instanceof Refused ? fault : new Refused(0, 'It cannot be read', fault instanceof Error ? fault.message : String(fault));
    } finally {
      busy = false;
    }
  }

  async function readFile(file: File | undefined) {
    if (!file) return;
    description = await file.text();
    if (!name) name = file.name.replace(/\.(ya?ml|json)$/, '').replace(/[.-]?openapi$/, '').toLowerCase().replace(/[^a-z0-9-]+/g, '-').replace(/^[^a-z]+/, '');
  }

  const look = () =>
    attempt(async () => {
      const seen = samples.map((one) => {
        const [method, path] = one.call.trim().split(/\s+/);
        return { method: method ?? '', path: path ?? '', status: Number(one.status), body: one.body.trim() ? JSON.parse(one.body) : null };
      });
      begun = await session.ask<ServiceBegun>('POST', '/language/service', { name, base, ...(how === 'description' ? { description } : { samples: seen }) });
      document = begun.document;
    });

  const deploy = () =>
    attempt(async () => {
      if (!begun) return;
      await session.ask<Deployed>('POST', '/deploys', { documents: [{ path: `${name}.yaml`, text: document }], files: { [begun.beside]: begun.description } });
      ondone(name);
    });

  const save = () =>
    attempt(async () => {
      if (!begun) return;
      await session.ask('PUT', `/drafts/service/${encodeURIComponent(name)}`, { path: `services/${name}.yaml`, text: document, file: begun.description }, { 'if-none-match': '*' });
      ondone('');
    });
</script>

<section class="panel" aria-label="Add a service">
  <form onsubmit={(event) => { event.preventDefault(); void look(); }}>
    <div class="fields">
      <label for="service-name">Name</label>
      <input id="service-name" class="control mono" bind:value={name} required pattern="[a-z][a-z0-9\-]*" placeholder="registry" autocomplete="off" />
      <label for="service-base">Base address</label>
      <input id="service-base" class="control mono" bind:value={base} placeholder={how === 'description' ? 'that of the description' : 'https://registry.example/api'} required={how === 'samples'} autocomplete="off" />
      <label for="service-how">Described by</label>
      <select id="service-how" class="control" bind:value={how}>
        <option value="description">its OpenAPI document</option>
        <option value="samples">answers it gave</option>
      </select>
    </div>
    {#if how === 'description'}
      <label for="service-file">The file, or its text</label>
      <input id="service-file" type="file" accept=".yaml,.yml,.json" onchange={(event) => void readFile(event.currentTarget.files?.[0])} />
      <textarea id="service-text" class="control mono" rows="6" aria-label="Text of the OpenAPI document" bind:value={description} spellcheck="false" placeholder="openapi: 3.1.0"></textarea>
    {:else}
      {#each samples as sample, index (index)}
        <div class="sample">
          <input class="control mono" aria-label="Call {index + 1}" bind:value={sample.call} spellcheck="false" />
          <input class="control mono" aria-label="Status {index + 1}" bind:value={sample.status} inputmode="numeric" />
          <textarea class="control mono" rows="3" aria-label="Body {index + 1}, as JSON" bind:value={sample.body} spellcheck="false" placeholder={'{"wind": 3.5}'}></textarea>
        </div>
      {/each}
      <button type="button" class="link" onclick={() => (samples = [...samples, { call: samples.at(-1)?.call ?? '', status: 200, body: '' }])}>Another answer</button>
    {/if}
    <div><Button size="small" kind="tertiary" type="submit" disabled={busy}>Read it</Button></div>
  </form>
  {#if error}<Trouble {error} />{/if}
  {#if begun}
    <p role="status">{begun.operations.length} operation{begun.operations.length === 1 ? '' : 's'}:
      <span class="mono">{begun.operations.map((one) => `${name}.${one.id}`).join(', ')}</span></p>
    {#if begun.private}<p>The address is private: calls reach it where the configuration of this service allows its network (<code>network.allow</code>).</p>{/if}
    {#each begun.warnings as warning, index (index)}<p>{warning.message}</p>{/each}
    <label for="service-document">Its document; add credentials, limits or timeouts here (<a href="/handbook/services" target="_blank" rel="noopener">handbook</a>)</label>
    <textarea id="service-document" class="control mono" rows={document.split('\n').length + 1} bind:value={document} spellcheck="false"></textarea>
    <div class="row">
      <Button size="small" disabled={busy} on:click={() => void deploy()}>Deploy it</Button>
      <Button size="small" kind="tertiary" disabled={busy} on:click={() => void save()}>Save as a draft</Button>
    </div>
  {/if}
</section>

<style>
  section,
  form {
    display: grid;
    grid-template-columns: minmax(0, 1fr);
    gap: 0.5rem;
    font-size: 0.8125rem;
  }

  section {
    padding: 0.75rem;
    margin: 0.5rem 0;
  }

  .fields {
    display: grid;
    grid-template-columns: max-content minmax(0, 26rem);
    gap: 0.375rem 0.75rem;
    align-items: center;
  }

  .sample {
    display: grid;
    grid-template-columns: minmax(0, 16rem) 4rem minmax(0, 1fr);
    gap: 0.5rem;
    align-items: start;
  }

  .link {
    justify-self: start;
  }

  p {
    font-size: 0.8125rem;
    overflow-wrap: anywhere;
  }
</style>
