<script lang="ts">
  /** How a live workflow is called: address, lines to copy, what a request holds, and a form that sends one. */
  import { Button } from 'carbon-components-svelte';
  import { untrack } from 'svelte';
  import type { Endpoint, JobStarted, PlainAnswer, SignedMessage, Workflow } from '../api/types';
  import { Refused, session } from '../lib/api.svelte';
  import { fetchLines, typedLines } from '../lib/code';
  import { encoded, line, took } from '../lib/show';
  import Copyable from '../parts/Copyable.svelte';
  import Trouble from '../parts/Trouble.svelte';

  let { workflow }: { workflow: Workflow } = $props();
  let chosen = $state(0);
  const endpoint = $derived<Endpoint | undefined>(workflow.endpoints[chosen]);
  /** Whether messages arrive there, which are signed; a GET only asks for what is echoed. */
  const receives = $derived(endpoint?.proof != null && endpoint.method !== 'GET');
  let target = $state('');
  let body = $state('');
  let headers = $state('');
  let answer = $state.raw<PlainAnswer | undefined>(undefined);
  let job = $state('');
  let delivery = $state('');
  /** Files that were chosen, by the names of their parts. */
  let files: Record<string, File> = $state.raw({});
  const parts = $derived(Object.keys(endpoint?.request.files ?? {}));
  let error = $state.raw<Refused | undefined>(undefined);
  let busy = $state(false);

  $effect(() => {
    const request = endpoint?.request;
    untrack(() => {
      target = request?.target ?? '';
      body = request ? (request.body === null ? '' : JSON.stringify(request.body, null, 2)) : JSON.stringify(sample(), null, 2);
      files = {};
      headers = Object.entries(request?.headers ?? {}).map(([name, value]) => `${name}: ${value}`).join('\n');
    });
  });

  /** An input that fits, for a workflow without an endpoint. */
  function sample(): Record<string, unknown> {
    const of = (schema: Record<string, unknown>) => schema.default ?? (schema.examples as unknown[] | undefined)?.[0] ?? (schema.enum as unknown[] | undefined)?.[0];
    const all = workflow.input.map((input) => [input.name, of(input.schema as Record<string, unknown>)] as const);
    return Object.fromEntries(all.filter(([, value]) => value !== undefined));
  }

  async function send() {
    busy = true;
    error = undefined;
    answer = undefined;
    [job, delivery] = ['', ''];
    try {
      if (endpoint) {
        const lines = headers.split('\n').filter((one) => one.includes(':'));
        const fields = Object.fromEntries(lines.map((one) => [one.slice(0, one.indexOf(':')).trim(), one.slice(one.indexOf(':') + 1).trim()]));
        let asked = { method: endpoint.method, target, headers: fields };
        if (receives) {
          const [path, query = ''] = target.split('?');
          const signing = { workflow: workflow.name, entry: `${endpoint.method} ${path}`, query, headers: { 'content-type': 'application/json', ...fields }, body };
          const signed = await session.ask<SignedMessage>('POST', '/deliveries/sign', signing);
          asked = { method: signed.method, target: signed.target, headers: signed.headers };
        }
        answer = await session.ask<PlainAnswer>('POST', '/requests', parts.length ? await withFiles(asked) : { ...asked, body });
        delivery = receives ? ((JSON.parse(answer.body || 'null') as { delivery?: string } | null)?.delivery ?? '') : '';
      } else {
        const started = await session.ask<JobStarted>('POST', '/jobs', { workflow: workflow.name, input: body.trim() ? JSON.parse(body) : {} });
        job = started.id;
      }
    } catch (refused) {
      error = refused instanceof Refused ? refused : new Refused(0, 'The request cannot be sent', String(refused));
    } finally {
      busy = false;
    }
  }

  /** A request whose body holds the chosen files: as a form, or one of them alone. */
  async function withFiles(asked: { method: string; target: string; headers: Record<string, string> }) {
    const form = new FormData();
    const given = body.trim() ? (JSON.parse(body) as Record<string, unknown>) : {};
    for (const [name, value] of Object.entries(given)) form.append(name, typeof value === 'string' ? value : JSON.stringify(value));
    for (const [name, file] of Object.entries(files)) form.append(name, file);
    const sent = new Response(parts.includes('') ? files[''] : form);
    const base64 = encoded(await sent.clone().arrayBuffer());
    return { ...asked, headers: { 'content-type': sent.headers.get('content-type') ?? 'application/octet-stream', ...asked.headers }, base64 };
  }

  function pretty(text: string): string {
    try {
      return JSON.stringify(JSON.parse(text), null, 2);
    } catch {
      return text;
    }
  }

  const members = (value: unknown): [string, unknown][] => Object.entries((value ?? {}) as Record<string, unknown>);
  const takesBody = $derived(!endpoint || !['GET', 'HEAD'].includes(endpoint.method) || body !== '');
</script>

{#if workflow.endpoints.length > 1}
  <label for="call-endpoint">Endpoint</label>
  <select id="call-endpoint" class="control" bind:value={chosen}>
    {#each workflow.endpoints as one, index (one.method + one.url)}<option value={index}>{one.method} {one.host ?? ''}{one.path}</option>{/each}
  </select>
{/if}
{#if endpoint}
  <Copyable text="{endpoint.method} {endpoint.url}" label="Copy the address" />
  <Copyable text={endpoint.curl} label="Copy a request that works" />
  {#if !endpoint.proof}
  <details><summary>Lines for fetch</summary><Copyable text={fetchLines(endpoint)} label="Copy the lines for fetch" /></details>
  <details><summary>Lines for a typed client</summary><Copyable text={typedLines(endpoint)} label="Copy the lines for a typed client" /></details>
  {:else}
  <p class="dim">A webhook, proven by <code>{endpoint.proof}</code>. <a href="/deliveries?workflow={encodeURIComponent(workflow.name)}">Messages that arrived</a></p>
  {/if}
{:else}
  <p class="dim">It has no address of its own: other workflows invoke it, or a timetable starts it.</p>
{/if}
{#if workflow.input.length}
  <details>
    <summary>What a request holds</summary>
    <table class="table"><tbody>
      {#each workflow.input as input (input.name)}
        <tr><td class="mono">{input.name}</td><td>{input.required ? 'required' : 'optional'}</td><td class="mono">{members(input.schema).map(([key, value]) => `${key} ${line(value)}`).join(', ')}</td></tr>
      {/each}
    </tbody></table>
  </details>
{/if}
<form class="send" onsubmit={(event) => { event.preventDefault(); void send(); }}>
  <strong>{receives ? 'Send a message like its sender, for real' : endpoint ? 'Send a request, for real' : 'Run it once, for real'}</strong>
  {#if endpoint}
    <div class="row"><span class="mono">{endpoint.method}</span><input class="control mono grow" aria-label="Path and query" bind:value={target} spellcheck="false" autocomplete="off" /></div>
    <label for="send-headers">Header fields, one on a line</label>
    <textarea id="send-headers" class="control mono" rows={Math.max(1, headers.split('\n').length)} bind:value={headers} spellcheck="false" placeholder="Authorization: Bearer …"></textarea>
  {/if}
  {#each parts as part (part)}
    <label for="send-file-{part}">{part || 'Body'}</label>
    <input id="send-file-{part}" type="file" onchange={(event) => { const file = event.currentTarget.files?.[0]; if (file) files = { ...files, [part]: file }; }} />
  {/each}
  {#if takesBody && !(parts.length && body === '')}
    <label for="send-input">{parts.length ? 'Other parts, as JSON' : endpoint ? 'Body' : 'Input'}</label>
    <textarea id="send-input" class="control mono" rows={Math.min(14, body.split('\n').length + 1)} bind:value={body} spellcheck="false"></textarea>
  {/if}
  <div><Button size="small" kind="tertiary" type="submit" disabled={busy}>{busy ? 'Sending …' : endpoint ? 'Send' : 'Run it'}</Button></div>
</form>
{#if error}<Trouble {error} />{/if}
{#if job}<p role="status">The job <a class="mono" href="/jobs/{job}">{job}</a> runs it.</p>{/if}
{#if answer}
  <section class="answer" class:bad={answer.status >= 400} aria-label="Answer" role="status">
    <p><strong>{answer.status}</strong> <span class="dim">in {took(answer.duration_us)}</span>
      {#if delivery}<a href="/deliveries/{delivery}">Its delivery</a>{:else if answer.run}<a href="/runs/{answer.run}">Its run</a>{:else if answer.job}<a href="/jobs/{answer.job}">Its job</a>{:else if answer.status >= 400}<a href="/runs?state=refused&workflow={encodeURIComponent(workflow.name)}">Refused before a run</a>{:else}<span class="dim">request {answer.request_id}</span>{/if}
    </p>
    {#if answer.body}<pre>{pretty(answer.body)}{answer.cut ? '\n…' : ''}</pre>{/if}
    <details><summary>Header fields</summary><pre>{answer.headers.map(([name, value]) => `${name}: ${value}`).join('\n')}</pre></details>
  </section>
{/if}

<style>
  details,
  .send {
    font-size: 0.8125rem;
  }

  summary {
    cursor: pointer;
    min-height: 1.5rem;
  }

  .send {
    display: grid;
    gap: 0.25rem;
    padding-top: 0.5rem;
  }

  .grow {
    flex: 1;
    min-width: 0;
  }

  .answer {
    border-left: 4px solid var(--cds-support-02);
    padding: 0.25rem 0.75rem;
    font-size: 0.8125rem;
  }

  .answer.bad {
    border-left-color: var(--cds-support-01);
  }

  .answer pre {
    max-height: 24rem;
    overflow: auto;
    white-space: pre-wrap;
    overflow-wrap: anywhere;
    font-size: 0.75rem;
    line-height: 1.125rem;
  }
</style>
