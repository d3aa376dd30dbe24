<script lang="ts">
  /** One message: as it arrived, what it is for the workflow, and what came of it. */
  import { Button, SkeletonText } from 'carbon-components-svelte';
  import type { Delivery, Processed } from '../api/types';
  import { Refused, session, Watched } from '../lib/api.svelte';
  import { ago, block, time } from '../lib/show';
  import Copyable from '../parts/Copyable.svelte';
  import MakeCase from '../parts/MakeCase.svelte';
  import Trouble from '../parts/Trouble.svelte';

  let { id }: { id: string } = $props();
  let round = $state(0);
  let error = $state.raw<Refused | undefined>(undefined);
  let job = $state('');
  const shown = new Watched<Delivery>(() => {
    void round;
    return `/deliveries/${encodeURIComponent(id)}`;
  }, 10_000);
  const raw = $derived(shown.value?.text ?? shown.value?.base64 ?? undefined);
  const parsed = $derived((shown.value?.value as { body?: unknown } | null)?.body);
  const facts = $derived.by((): [string, string][] => {
    const found = shown.value;
    if (!found) return [];
    const all: [string, string | null][] = [
      ['Delivery', found.line.id],
      ['Key', found.line.key],
      ['From', found.line.caller],
      ['Request', found.request_id],
      ['SHA-256', found.digest],
      ['Query', found.query || null],
      ['In the terminal', found.command],
    ];
    return all.filter((fact): fact is [string, string] => fact[1] !== null);
  });

  async function process(asReceived: boolean) {
    error = undefined;
    job = '';
    try {
      const done = await session.ask<Processed>('POST', '/deliveries/process', { ids: [id], as_received: asReceived });
      const one = done.deliveries[0];
      if (one?.problem) error = new Refused(one.problem.status, one.problem.title, one.problem.errors?.map((each) => `${each.pointer} ${each.detail}`).join('; ') || one.problem.detail || '');
      job = one?.job ?? '';
    } catch (refused) {
      error = refused instanceof Refused ? refused : new Refused(0, 'It was not processed', String(refused));
    }
    round += 1;
  }
</script>

<svelte:head><title>Delivery · Kanzlei</title></svelte:head>

<div class="page">
  {#if shown.error}
    <h1>Delivery</h1>
    <Trouble error={shown.error} />
  {/if}
  {#if shown.value}
    {@const found = shown.value}
    {@const line = found.line}
    <h1>Delivery to <a class="quiet" href="/workflows/{line.workflow}">{line.workflow}</a></h1>
    <div class="row head">
      <strong class={line.state}>{line.state}</strong>
      <span class="mono">{line.entry}</span>
      <span class="dim" title={time(line.received)}>· {ago(line.received)}</span>
      <span class="dim">· proof: {line.proof}</span>
      <span class="dim">· revision {line.revision}</span>
      {#if line.run}<span>· <a href="/{line.as_job ? 'jobs' : 'runs'}/{line.run}">its {line.as_job ? 'job' : 'run'}</a>{line.processed > 1 ? `, processed ${line.processed} times` : ''}</span>{/if}
      {#if line.first}<span>· a repetition of <a href="/deliveries/{line.first}">…{line.first.slice(-12)}</a></span>{/if}
    </div>
    <div class="row acts">
      <Button size="small" kind="tertiary" on:click={() => void process(false)}>Process again</Button>
      <Button size="small" kind="ghost" on:click={() => void process(true)}>As revision {line.revision}</Button>
      <Button size="small" kind="ghost" href="/workflows/{encodeURIComponent(line.workflow)}?delivery={line.id}">Try the draft with it</Button>
      <MakeCase of="deliveries" id={line.id} workflow={line.workflow} />
      <a href="/deliveries?workflow={encodeURIComponent(line.workflow)}">All of {line.workflow}</a>
    </div>
    {#if error}<Trouble {error} />{/if}
    {#if job}<p role="status">The job <a class="mono" href="/jobs/{job}">{job}</a> processes it.</p>{/if}
    <div class="beside">
      <div class="stack">
        <section class="panel" aria-label="Body">
          <h2>Body <span class="dim">{line.media || 'no media type'}, {line.size} bytes</span></h2>
          {#if parsed !== undefined && parsed !== null && typeof parsed === 'object'}
            <pre>{block(parsed)}</pre>
            <details><summary>As it was sent</summary><Copyable text={raw ?? ''} label="Copy the body" /></details>
          {:else if raw !== undefined && raw !== null}
            <Copyable text={raw} label="Copy the body" />
          {:else}
            <p class="dim">It becomes a confidential input, so it is never shown.</p>
          {/if}
        </section>
        <section class="panel" aria-label="Header fields">
          <h2>Header fields</h2>
          <table class="table"><tbody>{#each found.headers as [name, value] (name)}<tr><td class="mono">{name}</td><td class="mono value">{value}</td></tr>{/each}</tbody></table>
        </section>
      </div>
      <div class="stack">
        <section class="panel" aria-label="Input">
          <h2>Input <span class="dim">by the live revision</span></h2>
          {#if found.input !== null}<pre>{block(found.input)}</pre>
          {:else if found.unfit}
            <p class="unfit">{found.unfit.title}{found.unfit.detail ? `: ${found.unfit.detail}` : ''}</p>
            {#each found.unfit.errors ?? [] as one (one.pointer + one.detail)}<p><code>{one.pointer}</code> {one.detail}</p>{/each}
          {:else}<p class="dim">No live revision receives it.</p>{/if}
        </section>
        <section class="panel" aria-label="About it">
          <dl>{#each facts as [name, value] (name)}<dt>{name}</dt><dd><Copyable text={value} label="Copy {name.toLowerCase()}" /></dd>{/each}</dl>
        </section>
      </div>
    </div>
  {:else if !shown.error}
    <SkeletonText paragraph lines={8} />
  {/if}
</div>

<style>
  .head,
  .acts {
    flex-wrap: wrap;
    font-size: 0.875rem;
    margin: 0.5rem 0;
  }

  .beside {
    display: grid;
    grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
    gap: 1rem;
    align-items: start;
  }

  .stack {
    display: grid;
    grid-template-columns: minmax(0, 1fr);
    gap: 1rem;
  }

  section {
    padding: 0.75rem;
    font-size: 0.8125rem;
    overflow-x: auto;
  }

  h2 {
    font-size: 0.875rem;
    margin-bottom: 0.5rem;
  }

  dl {
    display: grid;
    grid-template-columns: max-content minmax(0, 1fr);
    gap: 0.25rem 0.75rem;
    align-items: center;
  }

  .value {
    overflow-wrap: anywhere;
  }

  .unfit {
    color: var(--cds-text-error);
  }

  @media (max-width: 60rem) {
    .beside {
      grid-template-columns: minmax(0, 1fr);
    }
  }
</style>
