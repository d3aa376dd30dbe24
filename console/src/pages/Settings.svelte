<script lang="ts">
  import { Button, InlineNotification, SkeletonText, Tag, TextInput } from 'carbon-components-svelte';
  import type { Setting, Settings } from '../api/types';
  import { Refused, session, Watched } from '../lib/api.svelte';
  import Trouble from '../parts/Trouble.svelte';

  let round = $state(0);
  let edited: string | undefined = $state(undefined);
  let text = $state('');
  let wrong = $state('');
  const shown = new Watched<Settings>(() => {
    void round;
    return '/settings';
  }, 10_000);

  /** A value as its schema wants it: text stays text, anything else is read as JSON. */
  function read(setting: Setting): unknown {
    if ((setting.schema as { type?: string }).type === 'string') return text;
    try {
      return JSON.parse(text);
    } catch {
      return text;
    }
  }

  async function set(setting: Setting, value: unknown) {
    wrong = '';
    try {
      await session.ask('POST', '/deploys', { documents: [], settings: { [setting.name]: value } });
      edited = undefined;
    } catch (error) {
      const first = error instanceof Refused ? error.findings[0]?.message : undefined;
      wrong = first ?? (error instanceof Refused ? `${error.title}: ${error.detail}` : String(error));
    }
    round += 1;
  }

  function edit(setting: Setting) {
    const value = setting.set ?? setting.default;
    edited = setting.name;
    text = typeof value === 'string' ? value : JSON.stringify(value ?? '');
  }
</script>

<svelte:head><title>Settings · Kanzlei</title></svelte:head>

<div class="page">
  <h1>Settings</h1>
  <p class="dim">Values that differ between installations and are no secrets. Setting one is a deploy: what is live is checked with it.</p>
  {#if shown.error}<Trouble error={shown.error} />{/if}
  {#if wrong}<InlineNotification kind="error" lowContrast title={wrong} on:close={() => (wrong = '')} />{/if}
  {#if shown.value?.settings.length}
    <div class="panel">
      <table class="table">
        <thead><tr><th>Setting</th><th>Value</th><th>Type</th><th>Used by</th><th><span class="sr">Actions</span></th></tr></thead>
        <tbody>
          {#each shown.value.settings as setting (setting.name)}
            <tr>
              <td><span class="mono">{setting.name}</span><br /><span class="dim">{setting.about}</span></td>
              <td>
                {#if edited === setting.name}
                  <form onsubmit={(event) => { event.preventDefault(); void set(setting, read(setting)); }}>
                    <TextInput size="sm" hideLabel labelText="Value of {setting.name}" bind:value={text} />
                  </form>
                {:else}
                  <span class="mono">{JSON.stringify(setting.set ?? setting.default)}</span>
                  {#if setting.set === null}<span class="dim">default</span>{:else}<Tag type="blue" size="sm">set</Tag>{/if}
                {/if}
              </td>
              <td class="mono">{setting.of}</td>
              <td>
                {#each setting.users as user (user)}
                  {@const [kind, name] = user.split('/')}
                  {#if kind === 'workflow'}<a href="/workflows/{name}">{name}</a>{:else}<span>{kind} {name}</span>{/if}{' '}
                {:else}<span class="dim">nothing</span>{/each}
              </td>
              <td class="actions">
                {#if edited === setting.name}
                  <Button kind="primary" size="small" on:click={() => void set(setting, read(setting))}>Set</Button>
                  <Button kind="ghost" size="small" on:click={() => (edited = undefined)}>Cancel</Button>
                {:else}
                  <Button kind="ghost" size="small" on:click={() => edit(setting)}>Change</Button>
                  {#if setting.set !== null && setting.default !== null}
                    <Button kind="ghost" size="small" on:click={() => void set(setting, null)}>Use the default</Button>
                  {/if}
                {/if}
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {:else if shown.value}
    <div class="panel empty">
      <p>No settings. A document declares them:</p>
      <pre class="mono">settings: office
values:
  free_nights: {'{type: integer, default: 1}'}</pre>
    </div>
  {:else if !shown.error}
    <div class="panel empty"><SkeletonText paragraph lines={4} /></div>
  {/if}
</div>

<style>
  .empty {
    padding: 1.5rem;
  }

  .actions {
    text-align: right;
    white-space: nowrap;
  }

  .page > p {
    margin-bottom: 0.75rem;
  }
</style>
