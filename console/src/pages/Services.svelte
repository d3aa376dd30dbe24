<script lang="ts">
  /** Outside services: base address, limits, operations with types, who calls them, and the secret that each needs. */
  import { Button, SkeletonText } from 'carbon-components-svelte';
  import type { Libraries, Secrets, Service, Services, ServiceSecret } from '../api/types';
  import { Refused, session, Watched } from '../lib/api.svelte';
  import { router } from '../lib/router.svelte';
  import { ago, count, took } from '../lib/show';
  import AddService from '../parts/AddService.svelte';
  import CopyText from '../parts/CopyText.svelte';
  import Trouble from '../parts/Trouble.svelte';

  let { name }: { name: string | undefined } = $props();
  const listed = new Watched<Services>(() => '/services?day=true', 20_000);
  const libraries = new Watched<Libraries>(() => (name ? undefined : '/libraries'), 20_000);
  let adding = $state(false);
  let round = $state(0);
  const secrets = new Watched<Secrets>(() => {
    void round;
    return '/secrets';
  }, 10_000);
  const shown = new Watched<Service>(() => (name ? `/services/${encodeURIComponent(name)}` : undefined), 10_000);
  const values = $state<Record<string, string>>({});
  let error: Refused | undefined = $state.raw(undefined);
  let said = $state('');

  const known = (needed: ServiceSecret) => secrets.value?.secrets.find((one) => one.name === needed.name);

  function limits(service: Service): string {
    const all = [service.at_once ? `At most ${service.at_once} calls at once.` : '', service.pace ? `At most ${service.pace}.` : '', service.shared ? 'Over all processes.' : ''];
    return all.filter(Boolean).join(' ');
  }

  async function set(needed: ServiceSecret) {
    error = undefined;
    said = '';
    try {
      const purposes = [...new Set([...(known(needed)?.for ?? []), needed.for])];
      await session.ask('PUT', `/secrets/${encodeURIComponent(needed.name)}`, { value: values[needed.name], for: purposes });
      said = `${needed.name} is set.`;
      values[needed.name] = '';
      round += 1;
    } catch (refused) {
      error = refused instanceof Refused ? refused : new Refused(0, 'Not set', String(refused));
    }
  }
</script>

<svelte:head><title>{name ?? 'Services'} · Kanzlei</title></svelte:head>

<div class="page">
  <div class="row head">
    <h1>Services</h1>
    <Button size="small" aria-expanded={adding} on:click={() => (adding = !adding)}>Add a service</Button>
  </div>
  <p class="dim">What workflows call. A service is declared in a document of its own, with the OpenAPI document of its operations.</p>
  {#if adding}<AddService ondone={(added) => { adding = false; listed.again(); router.go(`/services/${added}`); }} />{/if}
  {#if listed.error}<Trouble error={listed.error} />{/if}
  {#if listed.value?.services.length}
    <div class="panel">
      <table class="table" aria-label="Services">
        <thead><tr><th scope="col">Service</th><th scope="col">Base address</th><th scope="col">Network</th><th scope="col">Secret</th><th scope="col">Last 24 hours</th><th scope="col">p95</th><th scope="col">Called by</th></tr></thead>
        <tbody>
          {#each listed.value.services as service (service.name)}
            <tr class:chosen={service.name === name}>
              <th scope="row"><a href="/services/{encodeURIComponent(service.name)}">{service.name}</a> <span class="dim">{service.about}</span></th>
              <td><span class="row"><span class="mono">{service.base}</span><CopyText text={service.base} label="Copy the address of {service.name}" /></span>{#if service.hosts?.length}<div class="dim">{service.hosts[0] === 'any' ? 'any public host' : service.hosts.join(', ')}</div>{/if}</td>
              <td>{service.network}</td>
              <td>{#each service.secrets ?? [] as one (one.name)}<div>{#if one.set}<span class="dim">{one.name} is set</span>{:else}<span class="why">{one.name} is not set</span>{/if}</div>{:else}<span class="dim">none</span>{/each}{#if service.token?.trouble}<div class="why">{service.token.trouble}</div>{/if}</td>
              <td>{#if service.day?.runs}{count(service.day.runs)} call{service.day.runs === 1 ? '' : 's'}{#if service.day.failures}<span class="why">, {count(service.day.failures)} failed</span>{/if}{:else}<span class="dim">no calls</span>{/if}</td>
              <td class="time">{took(service.day?.p95_us)}</td>
              <td>{#each service.callers ?? [] as user, index (user)}{index ? ', ' : ''}<a href="/workflows/{user}">{user}</a>{:else}<span class="dim">none</span>{/each}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {:else if listed.value}
    <div class="panel empty">
      <p>No service is live. Add one from its OpenAPI document, or from answers it gave.</p>
      <Button size="small" on:click={() => (adding = true)}>Add a service</Button>
    </div>
  {:else if !listed.error}
    <div class="panel empty"><SkeletonText paragraph lines={4} /></div>
  {/if}
  {#if name}
    {#if shown.error}<Trouble error={shown.error} />{/if}
    {#if shown.value}
      {@const service = shown.value}
      <h2>{service.name}</h2>
      <p class="dim">{limits(service)}</p>
      {#if service.token}
        <p>
          Its calls carry a token of <a href="/services/{encodeURIComponent(service.token.from)}">{service.token.from}</a>{service.token.valid_s == null ? '; the next call requests one.' : `, valid for ${service.token.valid_s} s more.`}
          {#if service.token.trouble}<span class="why">{service.token.trouble}</span>{/if}
        </p>
      {/if}
      {#each service.secrets as needed (needed.name)}
        {@const secret = known(needed)}
        <form class="panel secret" onsubmit={(event) => { event.preventDefault(); void set(needed); }}>
          <p>
            {#if secret && needed.set}Called with the secret <span class="mono">{needed.name}</span>, set {ago(secret.set)}{secret.readable ? '' : '; the key of this service does not open it'}.
            {:else if secret}<strong>The secret <span class="mono">{needed.name}</span> is not set for <span class="mono">{needed.for}</span>: its calls fail.</strong>
            {:else}<strong>The secret <span class="mono">{needed.name}</span> is not set: its calls fail.</strong>{/if}
          </p>
          <label for="secret-{needed.name}">New value</label>
          {#if needed.for === 'signing'}
            <textarea id="secret-{needed.name}" class="control mono" rows="3" autocomplete="off" spellcheck="false" bind:value={values[needed.name]} placeholder="Certificate and private key in PEM; they are never shown again"></textarea>
          {:else}
            <input id="secret-{needed.name}" type="password" class="control" autocomplete="off" bind:value={values[needed.name]} placeholder="It is never shown again" />
          {/if}
          <Button size="small" type="submit" disabled={!values[needed.name]}>Set it</Button>
        </form>
      {/each}
      {#if error}<Trouble {error} />{/if}
      <p role="status">{said}</p>
      <div class="panel">
        <table class="table" aria-label="Operations">
          <thead><tr><th scope="col">Operation</th><th scope="col">Request</th><th scope="col">Takes</th><th scope="col">Answers</th></tr></thead>
          <tbody>
            {#each service.operations as operation (operation.id)}
              <tr>
                <th scope="row"><span class="mono">{service.name}.{operation.id}</span><br /><span class="dim">{operation.about}</span></th>
                <td class="mono">{operation.method} {operation.path}</td>
                <td class="mono">{#each operation.parameters as parameter (parameter.name)}<div>{parameter.name}{parameter.required ? '' : '?'}: {parameter.type}</div>{/each}{#if operation.body}<div>body: {operation.body}</div>{/if}</td>
                <td class="mono">{#each operation.answers as answer (answer.status)}<div>{answer.status}: {answer.type}</div>{/each}</td>
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
    {/if}
  {/if}
  {#if !name && libraries.value?.libraries.length}
    <section aria-label="Libraries">
      <h2>Libraries</h2>
      <p class="dim">What workflows share: functions, types and groups of steps, named under <code>use</code>. <a href="/handbook/libraries">In the handbook</a></p>
      <div class="panel">
        <table class="table" aria-label="Libraries">
          <thead><tr><th scope="col">Library</th><th scope="col">Functions</th><th scope="col">Types</th><th scope="col">Groups of steps</th><th scope="col">Revision</th><th scope="col">Used by</th></tr></thead>
          <tbody>
            {#each libraries.value.libraries as library (library.name)}
              <tr>
                <td><strong>{library.name}</strong> {library.version ?? ''}{#if library.about}<br /><span class="dim">{library.about}</span>{/if}</td>
                <td class="mono listed">{library.functions.join('\n')}</td>
                <td class="mono listed">{library.types.join('\n')}</td>
                <td class="mono listed">{library.groups.join('\n')}</td>
                <td class="time">{library.revision}<br /><span class="dim">{ago(library.since)}</span></td>
                <td>{#each library.workflows as one, index (one)}{index ? ', ' : ''}<a href="/workflows/{one}">{one}</a>{:else}<span class="dim">none</span>{/each}</td>
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
    </section>
  {/if}
</div>

<style>
  .head {
    justify-content: space-between;
  }

  .time {
    white-space: nowrap;
  }

  .why {
    color: var(--cds-text-error);
  }

  h2 {
    font-size: 1.125rem;
    padding: 1rem 0 0.25rem;
  }

  th[scope='row'] {
    font-weight: 400;
  }

  .chosen {
    background: var(--open-paragraph);
  }

  td.mono {
    font-size: 0.75rem;
    overflow-wrap: anywhere;
    vertical-align: top;
  }

  td.listed {
    white-space: pre;
    overflow-wrap: normal;
  }

  section > p.dim {
    font-size: 0.875rem;
    padding-bottom: 0.5rem;
  }

  .secret {
    display: flex;
    flex-wrap: wrap;
    gap: 0.5rem;
    align-items: center;
    padding: 0.5rem 0.75rem;
    font-size: 0.8125rem;
  }

  .secret p {
    flex: 1 1 100%;
    font-size: 0.8125rem;
  }

  .empty {
    padding: 1.5rem;
  }
</style>
