<script lang="ts">
  /** A new workflow: its purpose, how it is entered, what it takes in by an example. */
  import { Button } from 'carbon-components-svelte';
  import type { Beginning, Begun, Composed, Databases, Description, Draft, Example, Examples, RunPage, Workflow, Workflows } from '../api/types';
  import { ruleOf, typeOf } from '../compose/inputs';
  import { rowOf } from '../compose/rows';
  import { Refused, session } from '../lib/api.svelte';
  import { router } from '../lib/router.svelte';
  import { ago, line, time } from '../lib/show';
  import { zone as clockZone } from '../lib/zone.svelte';
  import Trouble from '../parts/Trouble.svelte';

  type Entry = 'request' | 'webhook' | 'change' | 'timetable' | 'none';
  let about = $state('');
  let name = $state('');
  let named = $state(false);
  let entry: Entry = $state('request');
  let method = $state('POST');
  let path = $state('');
  let receiver = $state('');
  let pattern = $state('0 2 * * *');
  let zone = $state(Intl.DateTimeFormat().resolvedOptions().timeZone || 'UTC');
  let example = $state('');
  let begun = $state.raw<Begun | undefined>(undefined);
  let problem = $state('');
  let error: Refused | undefined = $state.raw(undefined);
  let due: string[] = $state.raw([]);
  let patternFault = $state('');
  let live: Workflows['workflows'] = $state.raw([]);
  let runs: RunPage['runs'] = $state.raw([]);
  let publicUrl = $state('');
  let drafts: string[] = $state.raw([]);
  /** `live/NAME` or `example/NAME`; empty for an empty sheet. */
  let from = $state(router.query.get('example') ? `example/${router.query.get('example')}` : '');
  let examples: Examples['examples'] = $state.raw([]);
  let busy = $state(false);
  let databases: string[] = $state.raw([]);
  let database = $state('');
  let tables: Description['columns'] = $state.raw({});
  let table = $state('');
  let operations: string[] = $state(['insert', 'update', 'delete']);
  let timer: ReturnType<typeof setTimeout> | undefined;

  void session.get<Workflows>('/workflows').then((answer) => (live = answer.workflows), () => undefined);
  void session.get<RunPage>('/runs?limit=20').then((page) => (runs = page.runs), () => undefined);
  void session.get<{ public_url: string }>('/status').then((status) => (publicUrl = status.public_url), () => undefined);
  void session.get<{ drafts: { kind: string; name: string }[] }>('/drafts').then((all) => (drafts = all.drafts.filter((one) => one.kind === 'workflow').map((one) => one.name)), () => undefined);

  void session.get<Examples>('/examples').then((all) => (examples = all.examples), () => undefined);
  void session.get<Databases>('/databases').then((all) => (databases = all.databases.map((one) => one.name)), () => undefined);

  /** Tables of the chosen database, and a row of the chosen table as the example. */
  async function look() {
    tables = {};
    table = '';
    if (!database) return;
    try {
      tables = (await session.get<Description>(`/databases/${encodeURIComponent(database)}/description`)).columns;
    } catch (refused) {
      error = refused as Refused;
    }
  }
  const pick = () => (example = JSON.stringify(rowOf(tables[table] ?? []), null, 2));

  const slug = (text: string) =>
    text.toLowerCase().normalize('NFKD').replace(/[^a-z0-9]+/g, '-').replace(/^[^a-z]+/, '').split('-').filter((word) => !['a', 'an', 'the', 'of', 'for', 'to', 'and', 'one', 'with'].includes(word)).slice(0, 3).join('-').replace(/-$/, '');
  const chosen = $derived(named ? name : slug(about));
  const taken = $derived(live.some((one) => one.name === chosen) ? 'is live already' : drafts.includes(chosen) ? 'is a draft already' : '');
  const endpoint = $derived(entry === 'request' && path.trim() ? `${method} ${path.trim().startsWith('/') ? '' : '/'}${path.trim()}` : '');

  const wantedAs = (name: string): Beginning => ({
    name,
    about,
    endpoint,
    change: entry === 'change' && table && operations.length ? { table, database, of: operations } : null,
    webhook: entry === 'webhook' ? receiver.trim() || `/from/${name}` : '',
    timetable: entry === 'timetable' ? pattern : '',
    zone: entry === 'timetable' ? zone : '',
    example,
  });

  $effect(() => {
    const wanted = wantedAs(chosen || 'unnamed');
    clearTimeout(timer);
    timer = setTimeout(() => void preview(wanted), 250);
  });

  async function preview(wanted: Beginning) {
    try {
      begun = await session.ask<Begun>('POST', '/language/begin', wanted);
      problem = '';
      // The endpoint of a pasted line of curl fills the empty fields.
      const found = /^([A-Z]+) (\/.*)$/.exec(begun.endpoint);
      if (found && entry === 'request' && !path) [method, path] = [found[1] ?? method, found[2] ?? ''];
      if (entry === 'timetable') {
        const file = 'new.yaml';
        const text = begun.text.replace('steps: []', 'steps: [{note: begun}]');
        const composed = await session.ask<Composed>('POST', '/language/sheet', { documents: [{ path: file, text }], path: file });
        due = Object.values(composed.due)[0] ?? [];
        patternFault = composed.diagnostics.find((one) => one.severity === 'error' && one.line > 1)?.message ?? '';
      }
    } catch (refused) {
      problem = refused instanceof Refused ? refused.detail : String(refused);
      begun = undefined;
    }
  }

  async function takeRun(id: string) {
    if (!id) return;
    const run = await session.get<{ input: unknown; workflow: string }>(`/runs/${id}`);
    example = JSON.stringify(run.input, null, 2);
  }

  async function open() {
    busy = true;
    error = undefined;
    try {
      let text: string;
      const other = from.slice(from.indexOf('/') + 1);
      let example: Example | undefined;
      if (from) {
        if (from.startsWith('example/')) example = await session.get<Example>(`/examples/${encodeURIComponent(other)}?name=${encodeURIComponent(chosen)}`);
        const source = example?.workflow ?? (await session.get<Workflow>(`/workflows/${encodeURIComponent(other)}`)).source;
        const changes: unknown[] = [{ change: 'text', at: ['workflow'], text: chosen }];
        if (about) changes.push({ change: 'text', at: ['about'], text: about });
        const changed = await session.ask<Composed>('POST', '/language/sheet', { documents: [{ path: 'new.yaml', text: source }], path: 'new.yaml', changes });
        text = changed.text;
      } else {
        text = (await session.ask<Begun>('POST', '/language/begin', wantedAs(chosen))).text;
      }
      await session.ask<Draft>('PUT', `/drafts/workflow/${encodeURIComponent(chosen)}`, { path: `workflows/${chosen}.yaml`, text }, { 'if-none-match': '*' });
      if (example) await session.ask<Draft>('PUT', `/drafts/cases/${encodeURIComponent(chosen)}`, { path: `cases/${chosen}.yaml`, text: example.cases }, { 'if-none-match': '*' });
      router.go(`/workflows/${encodeURIComponent(chosen)}`);
    } catch (refused) {
      error = refused as Refused;
    } finally {
      busy = false;
    }
  }

  const inputs = $derived(Object.entries((begun?.input ?? {}) as Record<string, Record<string, unknown>>));
  const fromPath = (input: string) => entry === 'request' && endpoint.includes(`{${input}}`);
</script>

<svelte:head><title>New workflow · Kanzlei</title></svelte:head>

<div class="page">
  <h1>New workflow</h1>
  <p class="dim">Three parts make a draft. Everything can be changed on the sheet.</p>
  <form class="panel" onsubmit={(event) => { event.preventDefault(); if (!taken && chosen) void open(); }}>
    <section>
      <span class="letter mono" aria-hidden="true">a</span>
      <div>
        <label for="about">Purpose</label>
        <!-- svelte-ignore a11y_autofocus -->
        <input id="about" bind:value={about} placeholder="Quotes the dues for one stay at a berth" autocomplete="off" autofocus />
        <div class="row name">
          <label for="name">Name</label>
          <input id="name" class="mono" value={chosen} oninput={(event) => { named = true; name = event.currentTarget.value; }} pattern="[a-z][a-z0-9\-]*" aria-describedby="name-state" autocomplete="off" />
          <span id="name-state" role="status" class:wrong={taken}>{taken || (chosen ? 'free' : '')}</span>
        </div>
        <div class="row">
          <label for="from">Begin from</label>
          <select id="from" bind:value={from}>
            <option value="">an empty sheet</option>
            {#if live.length}<optgroup label="A live workflow">{#each live as one (one.name)}<option value="live/{one.name}">a copy of {one.name}</option>{/each}</optgroup>{/if}
            {#if examples.length}<optgroup label="A worked example, with its cases">{#each examples as one (one.name)}<option value="example/{one.name}">{one.name}: {one.about}</option>{/each}</optgroup>{/if}
          </select>
          <a href="/examples">Find an example</a>
        </div>
      </div>
    </section>
    {#if !from}
      <section>
        <span class="letter mono" aria-hidden="true">b</span>
        <fieldset>
          <legend>Entry</legend>
          <div class="cards">
            <label class="card" class:chosen={entry === 'request'}><input type="radio" name="entry" value="request" bind:group={entry} /><strong>A request</strong><span class="dim">an address that clients call</span></label>
            <label class="card" class:chosen={entry === 'webhook'}><input type="radio" name="entry" value="webhook" bind:group={entry} /><strong>A webhook</strong><span class="dim">messages of another system</span></label>
            <label class="card" class:chosen={entry === 'change'}><input type="radio" name="entry" value="change" bind:group={entry} /><strong>A changed row</strong><span class="dim">whatever changes a table</span></label>
            <label class="card" class:chosen={entry === 'timetable'}><input type="radio" name="entry" value="timetable" bind:group={entry} /><strong>A timetable</strong><span class="dim">again and again, by the clock</span></label>
            <label class="card" class:chosen={entry === 'none'}><input type="radio" name="entry" value="none" bind:group={entry} /><strong>Another workflow</strong><span class="dim">no address of its own</span></label>
          </div>
          {#if entry === 'request'}
            <div class="row">
              <select aria-label="Method" class="mono" bind:value={method}>{#each ['GET', 'POST', 'PUT', 'PATCH', 'DELETE'] as one (one)}<option>{one}</option>{/each}</select>
              <input class="mono" aria-label="Path" bind:value={path} placeholder={'/harbours/{harbour}/quotes'} autocomplete="off" />
            </div>
            <p class="dim mono address">{endpoint ? `${publicUrl}${endpoint.slice(endpoint.indexOf(' ') + 1)}` : ''}</p>
          {:else if entry === 'webhook'}
            <div class="row"><span class="mono">POST</span><input class="mono" aria-label="Path of the webhook" bind:value={receiver} placeholder="/from/{chosen || 'customs'}" autocomplete="off" /></div>
            <p class="dim">Set how its sender proves itself on the sheet. To see messages before anything is mapped, leave the example empty and open the draft's address.</p>
          {:else if entry === 'change'}
            {#if databases.length}
              <div class="row">
                <label for="database">Database</label>
                <select id="database" class="mono" bind:value={database} onchange={() => void look()}><option value=""></option>{#each databases as one (one)}<option>{one}</option>{/each}</select>
                <label for="table">Table</label>
                <select id="table" class="mono" bind:value={table} onchange={pick} disabled={!database}><option value=""></option>{#each Object.keys(tables) as one (one)}<option>{one}</option>{/each}</select>
              </div>
              <div class="row">
                {#each ['insert', 'update', 'delete'] as one (one)}<label class="check"><input type="checkbox" value={one} bind:group={operations} />{one}</label>{/each}
              </div>
              <p class="dim">Columns that stay in the example become inputs of the same name. A condition, and what else is sent, stands on the sheet. The deploy makes triggers and shows them before.</p>
            {:else}
              <p class="dim">The service knows no database. Name one in its configuration: <span class="mono">databases.NAME.url</span>.</p>
            {/if}
          {:else if entry === 'timetable'}
            <div class="row">
              <label for="pattern">Pattern</label><input id="pattern" class="mono" bind:value={pattern} autocomplete="off" />
              <label for="zone">Zone</label><input id="zone" class="mono" bind:value={zone} autocomplete="off" />
            </div>
            {#if patternFault}<p class="wrong">{patternFault}</p>{:else}<p class="dim">Next: {due.map((one) => time(one)).join(' · ')} {clockZone.name}</p>{/if}
          {/if}
        </fieldset>
      </section>
      <section>
        <span class="letter mono" aria-hidden="true">c</span>
        <div>
          <label for="example">{entry === 'webhook' ? 'Input, by an example message: JSON' : entry === 'change' ? 'Input, by an example row: JSON' : 'Input, by an example request: JSON, or a line of curl'}</label>
          <textarea id="example" class="mono" rows="4" bind:value={example} placeholder={'{"imo": "9074720", "arrives": "2027-03-04T06:00:00Z", "nights": 1}'} spellcheck="false"></textarea>
          {#if runs.length && entry !== 'change'}
            <div class="row"><label for="run">or that of a past run</label>
              <select id="run" onchange={(event) => void takeRun(event.currentTarget.value)}><option value=""></option>{#each runs as run (run.id)}<option value={run.id}>{run.workflow}, {ago(run.started)}</option>{/each}</select>
            </div>
          {/if}
          {#if problem}<p class="wrong" role="status">{problem}</p>{/if}
          {#if inputs.length}
            <table class="table">
              <thead><tr><th>name</th><th>type</th><th>rule</th><th>required</th><th>sample</th></tr></thead>
              <tbody>
                {#each inputs as [input, schema] (input)}
                  <tr><td class="mono">{input}</td><td>{typeOf(schema)}</td><td>{ruleOf(schema)}</td><td>{fromPath(input) ? 'from the path' : schema.optional ? 'no' : 'yes'}</td><td class="mono">{line((schema.examples as unknown[] | undefined)?.[0])}</td></tr>
                {/each}
              </tbody>
            </table>
          {/if}
        </div>
      </section>
    {/if}
    {#if error}<Trouble {error} />{/if}
    <div class="row buttons">
      <Button type="submit" disabled={busy || !chosen || taken !== '' || (problem !== '' && !from) || (entry === 'change' && !from && (!table || !operations.length))}>Open the sheet</Button>
      <Button kind="ghost" href="/workflows">Cancel</Button>
    </div>
  </form>
</div>

<style>
  form {
    max-width: 50rem;
    margin-top: 0.75rem;
  }

  section {
    display: grid;
    grid-template-columns: 2rem minmax(0, 1fr);
    padding: 0.75rem;
    border-bottom: 1px solid var(--cds-ui-03);
  }

  section > div,
  fieldset {
    display: grid;
    gap: 0.5rem;
    border: 0;
    min-width: 0;
  }

  label,
  legend {
    font-size: 0.875rem;
    padding: 0;
  }

  .row > label,
  .row > a {
    flex: none;
    font-size: 0.875rem;
    white-space: nowrap;
  }

  .row > select {
    min-width: 0;
  }

  fieldset p {
    font-size: 0.875rem;
  }

  .check {
    display: flex;
    gap: 0.375rem;
    align-items: center;
  }

  .check input {
    width: auto;
    margin: 0;
  }

  .letter {
    color: var(--cds-text-02);
  }

  input:not([type='radio']),
  textarea,
  select {
    background: var(--cds-field-01);
    border: 0;
    border-bottom: 1px solid var(--cds-ui-04);
    color: inherit;
    padding: 0.5rem;
    font-size: 0.875rem;
    width: 100%;
    min-width: 0;
  }

  select {
    width: auto;
    height: 2.25rem;
  }

  input:focus,
  textarea:focus,
  select:focus {
    outline: 2px solid var(--cds-focus);
    outline-offset: -2px;
  }

  .name input {
    max-width: 20rem;
  }

  .cards {
    margin-top: 0.25rem;
    display: grid;
    grid-template-columns: repeat(3, minmax(0, 1fr));
    gap: 0.5rem;
  }

  .card {
    display: grid;
    padding: 0.5rem 0.75rem;
    border: 1px solid var(--cds-ui-04);
    cursor: pointer;
    font-size: 0.8125rem;
  }

  .card.chosen {
    border-color: var(--cds-interactive-01);
    box-shadow: inset 0 0 0 1px var(--cds-interactive-01);
  }

  .card:focus-within {
    outline: 2px solid var(--cds-focus);
    outline-offset: 1px;
  }

  .card input {
    position: absolute;
    opacity: 0;
  }

  .address {
    overflow-wrap: anywhere;
  }

  .wrong {
    color: var(--cds-text-error);
  }

  .buttons {
    padding: 0.75rem;
  }

  @media (max-width: 40rem) {
    .cards {
      grid-template-columns: minmax(0, 1fr);
    }
  }
</style>
