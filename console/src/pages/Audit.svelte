<script lang="ts">
  /** Who changed what, who looked at confidential runs, and who is signed in. */
  import { SkeletonText } from 'carbon-components-svelte';
  import type { Audit, SessionLine, Sessions, SessionsEnded } from '../api/types';
  import { session, Watched } from '../lib/api.svelte';
  import { Attempt } from '../lib/attempt.svelte';
  import { router } from '../lib/router.svelte';
  import { ago, time } from '../lib/show';
  import CopyText from '../parts/CopyText.svelte';
  import Erasing from '../parts/Erasing.svelte';
  import Trouble from '../parts/Trouble.svelte';

  let round = $state(0);
  const who = $derived(router.query.get('who') ?? '');
  const text = $derived(router.query.get('text') ?? '');
  const before = $derived(router.query.get('before') ?? '');
  const operator = $derived(session.who?.role === 'operator');
  const query = $derived(new URLSearchParams(Object.entries({ who, text, before }).filter(([, value]) => value)).toString());
  const listed = new Watched<Audit>(() => (operator ? `/audit?${query}` : undefined), 5000);
  const sessions = new Watched<Sessions>(() => {
    void round;
    return '/sessions';
  }, 10_000);
  const asked = new Attempt();
  const attempt = (what: () => Promise<void>) => asked.run(what).then(() => (round += 1));
  const end = (one: SessionLine) =>
    attempt(async () => {
      await session.ask('DELETE', `/sessions/${one.id}`);
      if (one.yours) session.signedIn = false;
    });
  const everywhere = () =>
    attempt(async () => {
      await session.ask<SessionsEnded>('DELETE', '/sessions');
      session.signedIn = false;
    });
</script>

<svelte:head><title>Audit · Kanzlei</title></svelte:head>

<div class="page">
  <h1>Audit</h1>
  <p class="dim">Who changed what, and who looked at runs with confidential values. <a href="/handbook/operators">In the handbook</a></p>
  {#if asked.error}<Trouble error={asked.error} />{/if}
  {#if operator}
    <div class="row">
      <label for="who">Who</label>
      <input id="who" class="control mono" value={who} onchange={(event) => router.filters({ who: event.currentTarget.value, before: '' })} autocomplete="off" />
      <label for="text">About</label>
      <input id="text" class="control" value={text} onchange={(event) => router.filters({ text: event.currentTarget.value, before: '' })} placeholder="secret, berth-quote, /deploys" autocomplete="off" />
      <CopyText text={`kanzlei audit${who ? ` --who ${who}` : ''}${text ? ` --text '${text}'` : ''}`} label="Copy the line for a terminal" />
    </div>
    {#if listed.error}<Trouble error={listed.error} />{/if}
    {#if listed.value?.lines.length}
      <div class="panel wide">
        <table class="table" aria-label="Audit trail">
          <thead><tr><th>When</th><th>Who</th><th>Request</th><th>About</th><th>Before</th><th>After</th></tr></thead>
          <tbody>
            {#each listed.value.lines as line (line.id)}
              <tr>
                <td title={ago(line.at)}>{time(line.at)}</td>
                <td><strong>{line.who}</strong><br /><span class="dim">{line.role}, by {line.via}{line.address ? ` from ${line.address}` : ''}</span></td>
                <td class="mono">{line.what}{#if line.status >= 400}<br /><span class="bad">{line.status}</span>{/if}</td>
                <td>{line.subject}</td>
                {#each [line.before, line.after] as side, index (index)}
                  <td>{#if side && (side.length > 60 || side.includes('\n'))}<details><summary>{side.length} characters</summary><pre>{side}</pre></details>{:else}{side ?? ''}{/if}</td>
                {/each}
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
      {#if listed.value.next}<button type="button" class="link" onclick={() => router.filters({ before: listed.value?.next ?? '' })}>Older ones</button>{/if}
      {#if before}<button type="button" class="link" onclick={() => router.filters({ before: '' })}>The newest</button>{/if}
    {:else if listed.value}
      <div class="panel empty"><p>There is no such line.</p></div>
    {:else if !listed.error}
      <div class="panel empty"><SkeletonText paragraph lines={4} /></div>
    {/if}
  {:else}
    <div class="panel empty"><p>The audit trail is for operators; you have the role {session.who?.role}.</p></div>
  {/if}
  <h2>Sessions</h2>
  {#if sessions.value?.sessions.length}
    <div class="panel wide">
      <table class="table" aria-label="Sessions">
        <thead><tr><th>Who</th><th>Begun</th><th>Ends</th><th>From</th><th>Browser</th><th><span class="sr">Actions</span></th></tr></thead>
        <tbody>
          {#each sessions.value.sessions as one (one.id)}
            <tr>
              <td><strong>{one.name}</strong>{#if one.yours} <span class="dim">this one</span>{/if}<br /><span class="dim">{one.role}{one.by_provider ? ', by the provider of identities' : ''}</span></td>
              <td title={time(one.created)}>{ago(one.created)}</td>
              <td>{time(one.expires)}</td>
              <td class="mono">{one.address ?? ''}</td>
              <td class="dim">{one.agent.slice(0, 60)}</td>
              <td><button type="button" class="link" onclick={() => void end(one)} aria-label="End the session of {one.name} begun {time(one.created)}">End</button></td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
    <button type="button" class="link" onclick={() => void everywhere()}>Sign out everywhere</button>
  {/if}
  {#if session.who?.role === 'operator'}<Erasing />{/if}
</div>

<style>
  h2 {
    margin-top: 1.5rem;
  }

  .empty {
    padding: 0.75rem;
    margin: 0.75rem 0;
    font-size: 0.875rem;
  }

  .bad {
    color: var(--cds-text-error);
  }

  pre {
    max-height: 20rem;
    overflow: auto;
    white-space: pre-wrap;
  }
</style>
