<script lang="ts">
  import { Button, InlineNotification, SkeletonText, Tag } from 'carbon-components-svelte';
  import type { Timetable, Timetables } from '../api/types';
  import { Refused, session, Watched } from '../lib/api.svelte';
  import { ahead } from '../lib/jobs';
  import { ago, time } from '../lib/show';
  import { zone } from '../lib/zone.svelte';
  import JobId from '../parts/JobId.svelte';
  import RunState from '../parts/RunState.svelte';
  import Trouble from '../parts/Trouble.svelte';

  let round = $state(0);
  let message = $state('');
  let wrong = $state('');
  const shown = new Watched<Timetables>(() => {
    void round;
    return '/timetables';
  }, 3000);

  async function act(timetable: Timetable, action: string) {
    [message, wrong] = ['', ''];
    try {
      const done = await session.ask<{ job: string | null }>('POST', `/timetables/${timetable.workflow}/${timetable.number}/${action}`);
      if (done.job) message = `Queued as job ${done.job}.`;
    } catch (error) {
      wrong = error instanceof Refused ? error.message : String(error);
    }
    round += 1;
  }
</script>

<svelte:head><title>Timetables · Kanzlei</title></svelte:head>

<div class="page">
  <h1>Timetables</h1>
  {#if shown.error}<Trouble error={shown.error} />{/if}
  {#if message}<InlineNotification kind="success" lowContrast title={message} on:close={() => (message = '')} />{/if}
  {#if wrong}<InlineNotification kind="error" lowContrast title={wrong} on:close={() => (wrong = '')} />{/if}
  {#if shown.value && shown.value.timetables.length > 0}
    <div class="all">
      {#each shown.value.timetables as timetable (timetable.workflow + timetable.number)}
        <section class="panel">
          <div class="top">
            <div>
              <h2><a class="quiet" href="/workflows/{timetable.workflow}">{timetable.workflow}</a></h2>
              <p class="mono">{timetable.when}</p>
              <p class="dim">{timetable.words} Missed: {timetable.missed}. Overlap: {timetable.overlap}.</p>
            </div>
            <div class="row">
              {#if timetable.paused}<Tag type="magenta" size="sm">paused</Tag>{/if}
              <Button size="small" kind="tertiary" on:click={() => void act(timetable, 'fire')}>Fire now</Button>
              <Button size="small" kind="ghost" on:click={() => void act(timetable, timetable.paused ? 'resume' : 'pause')}>
                {timetable.paused ? 'Resume' : 'Pause'}
              </Button>
            </div>
          </div>
          <div class="times">
            <div>
              <p class="dim">Next</p>
              <table>
                <tbody>
                  {#each timetable.next as next (next.due)}
                    <tr><td class="mono">{next.zone.replace(/:00 /, ' ')}</td><td class="dim">{time(next.due).slice(0, 16)} {zone.name}</td><td class="dim">{ahead(next.due)}</td></tr>
                  {:else}
                    <tr><td class="dim">{timetable.paused ? 'None while it is paused.' : 'None any more.'}</td></tr>
                  {/each}
                </tbody>
              </table>
            </div>
            <div>
              <p class="dim">Last</p>
              <table>
                <tbody>
                  {#each timetable.last.slice(0, 5) as last (last.due)}
                    <tr>
                      <td title={last.due}>{ago(last.due)}</td>
                      <td>{#if last.state}<RunState state={last.state} />{:else}{last.result}{/if}{#if last.result === 'by-hand'}<span class="dim">&nbsp;by hand</span>{/if}</td>
                      <td>{#if last.job}<JobId id={last.job} curl={last.curl} shown={12} />{/if}</td>
                    </tr>
                  {:else}
                    <tr><td class="dim">It was never due yet.</td></tr>
                  {/each}
                </tbody>
              </table>
            </div>
          </div>
        </section>
      {/each}
    </div>
  {:else if shown.value}
    <div class="panel empty">
      <p>No timetables. An entry makes one:</p>
      <pre>entries:
  - timetable: "0 6 * * MON-FRI"
    zone: Europe/Oslo</pre>
    </div>
  {:else if !shown.error}
    <div class="panel empty"><SkeletonText paragraph lines={6} /></div>
  {/if}
</div>

<style>
  .all {
    display: grid;
    gap: 1rem;
    margin-top: 1rem;
  }

  section {
    padding: 0.875rem 1rem;
    font-size: 0.8125rem;
  }

  h2 {
    font-size: 1rem;
    font-weight: 600;
  }

  .top {
    display: flex;
    flex-wrap: wrap;
    justify-content: space-between;
    align-items: start;
    gap: 1rem;
  }

  .times {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(min(24rem, 100%), 1fr));
    gap: 1rem;
    margin-top: 0.5rem;
  }

  p {
    font-size: 0.8125rem;
  }

  td {
    white-space: nowrap;
    font-size: 0.8125rem;
    padding: 0.125rem 1rem 0.125rem 0;
    vertical-align: middle;
  }

  .empty {
    padding: 1.5rem;
    margin-top: 1rem;
  }
</style>
