<script lang="ts">
  /** Worked examples, found by need: what each shows, its document, and a draft that begins from it. */
  import { Button, Search } from 'carbon-components-svelte';
  import type { Example, Examples } from '../api/types';
  import { Refused, session } from '../lib/api.svelte';
  import { router } from '../lib/router.svelte';
  import CopyText from '../parts/CopyText.svelte';
  import Trouble from '../parts/Trouble.svelte';

  let need = $state(router.query.get('need') ?? '');
  let found: Examples['examples'] | undefined = $state.raw(undefined);
  let open: Example | undefined = $state.raw(undefined);
  let error: Refused | undefined = $state.raw(undefined);
  let asked = 0;

  $effect(() => {
    const words = need.trim();
    const timer = setTimeout(() => void look(words), 150);
    return () => clearTimeout(timer);
  });

  async function look(words: string) {
    const turn = ++asked;
    try {
      const answer = await session.get<Examples>(`/examples${words ? `?need=${encodeURIComponent(words)}` : ''}`);
      if (turn === asked) [found, error] = [answer.examples, undefined];
    } catch (refused) {
      error = refused as Refused;
    }
  }

  async function toggle(name: string) {
    if (open?.name === name) {
      open = undefined;
      return;
    }
    try {
      open = await session.get<Example>(`/examples/${encodeURIComponent(name)}`);
    } catch (refused) {
      error = refused as Refused;
    }
  }

  const missing = (example: Example) => example.needs.filter((one) => one.kind && one.kind !== 'cases' && one.kind !== 'database' && !one.live).map((one) => `${one.kind} ${one.name}`);
</script>

<svelte:head><title>Examples · Kanzlei</title></svelte:head>

<div class="page">
  <h1>Examples</h1>
  <p class="dim">Workflows of a harbour office to begin from, each with cases that pass.</p>
  <div class="search"><Search size="lg" labelText="What you need" placeholder="What you need: page through a list, check an IBAN, wait for a callback …" bind:value={need} autofocus /></div>
  {#if error}<Trouble {error} />{/if}
  {#if found?.length}
    <ul class="panel" aria-label="Examples">
      {#each found as one (one.name)}
        <li>
          <button type="button" class="line" aria-expanded={open?.name === one.name} onclick={() => void toggle(one.name)}>
            <strong class="mono">{one.name}</strong><span>{one.about}</span><span class="dim kinds">{one.kinds.join(' · ')}</span>
          </button>
          {#if open?.name === one.name}
            <div class="open">
              <div class="row"><Button size="small" href="/new?example={encodeURIComponent(one.name)}">Begin from it</Button><CopyText text="kanzlei new my-own --like {one.name}" label="Copy the line" /></div>
              {#if missing(open).length}<p class="dim">It also needs what is not live here: {missing(open).join(', ')}. The line in a terminal writes these too.</p>{/if}
              <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
              <pre class="mono" tabindex="0" aria-label="Document of {one.name}">{open.workflow}</pre>
              <details><summary>Its cases</summary><pre class="mono">{open.cases}</pre></details>
            </div>
          {/if}
        </li>
      {/each}
    </ul>
  {:else if found}
    <div class="panel empty"><p>No example is about that. Try other words, or <button type="button" class="link" onclick={() => (need = '')}>see all of them</button>.</p></div>
  {/if}
</div>

<style>
  .search {
    margin: 0.75rem 0;
  }

  ul {
    padding: 0;
  }

  li {
    border-bottom: 1px solid var(--cds-ui-03);
  }

  .line {
    display: grid;
    grid-template-columns: 12rem minmax(0, 1fr) minmax(0, 18rem);
    gap: 0.75rem;
    width: 100%;
    padding: 0.5rem 0.75rem;
    border: 0;
    background: none;
    color: inherit;
    font-size: 0.875rem;
    text-align: left;
    cursor: pointer;
  }

  .line:hover {
    background: var(--cds-hover-ui);
  }

  .line:focus-visible {
    outline: 2px solid var(--cds-focus);
    outline-offset: -2px;
  }

  .kinds {
    font-size: 0.75rem;
  }

  .open {
    padding: 0 0.75rem 0.75rem;
  }

  pre {
    margin-top: 0.5rem;
    padding: 0.75rem;
    max-height: 28rem;
    overflow: auto;
    font-size: 0.75rem;
    line-height: 1.4;
    background: var(--cds-field-01);
  }

  summary {
    margin-top: 0.5rem;
    cursor: pointer;
    font-size: 0.875rem;
  }

  @media (max-width: 40rem) {
    .line {
      grid-template-columns: minmax(0, 1fr);
      gap: 0.125rem;
    }
  }
</style>
