<script lang="ts">
  /** Documents from elsewhere: files, folders or an archive dropped on the page, looked at, then saved as drafts or deployed. */
  import { Button } from 'carbon-components-svelte';
  import type { Deployed, Diagnostic, Drafts, Secrets } from '../api/types';
  import { Refused, session } from '../lib/api.svelte';
  import { dropped, kindOf, type Packed, readFiles } from '../lib/packing';
  import Trouble from '../parts/Trouble.svelte';

  let over = $state(false);
  let read = $state.raw<Packed | undefined>(undefined);
  let preview = $state.raw<Deployed | undefined>(undefined);
  let findings: Diagnostic[] = $state.raw([]);
  let missing: string[] = $state.raw([]);
  let error = $state.raw<Refused | undefined>(undefined);
  let said = $state('');
  let done = $state(false);
  let busy = $state(false);

  const trouble = (fault: unknown) => (fault instanceof Refused ? fault : new Refused(0, 'The files cannot be read', fault instanceof Error ? fault.message : String(fault)));

  async function attempt(what: () => Promise<void>) {
    busy = true;
    error = undefined;
    try {
      await what();
    } catch (fault) {
      error = trouble(fault);
    } finally {
      busy = false;
    }
  }

  const take = (files: { path: string; file: File }[]) =>
    attempt(async () => {
      [said, done, preview, findings] = ['', false, undefined, []];
      read = await readFiles(files);
      const known = (await session.get<Secrets>('/secrets')).secrets.map((one) => one.name);
      missing = read.secrets.map((one) => one.name).filter((name) => !known.includes(name));
      if (read.documents.length) await look();
    });

  /** What a deploy of them would change. */
  async function look() {
    if (!read) return;
    try {
      preview = await session.ask<Deployed>('POST', '/deploys', { documents: read.documents, files: read.files, preview: true });
      findings = preview.warnings;
    } catch (refused) {
      if (!(refused instanceof Refused) || !refused.findings.length) throw refused;
      findings = refused.findings;
    }
  }

  const deploy = () =>
    attempt(async () => {
      if (!read) return;
      if (read.documents.length) preview = await session.ask<Deployed>('POST', '/deploys', { documents: read.documents, files: read.files });
      await saveCases();
      said = 'They are live.';
      done = true;
    });

  const save = () =>
    attempt(async () => {
      if (!read) return;
      const { drafts } = await session.get<Drafts>('/drafts');
      for (const document of read.documents) {
        const found = kindOf(document.text);
        if (!found) continue;
        // The file that a service names travels with it.
        const beside = /^openapi: *["']?([^\s"']+)/m.exec(document.text)?.[1];
        const folder = document.path.slice(0, document.path.lastIndexOf('/') + 1);
        await put(drafts, found.kind, found.name, { path: document.path, text: document.text, file: (beside && read.files[folder + beside]) ?? null });
      }
      await saveCases();
      said = 'They are saved as drafts.';
      done = true;
    });

  async function saveCases() {
    const { drafts } = await session.get<Drafts>('/drafts');
    for (const one of read?.cases ?? []) await put(drafts, 'cases', one.workflow, { path: `cases/${one.workflow}.yaml`, text: one.text });
  }

  async function put(drafts: Drafts['drafts'], kind: string, name: string, body: Record<string, unknown>) {
    const known = drafts.find((one) => one.kind === kind && one.name === name);
    await session.ask('PUT', `/drafts/${kind}/${encodeURIComponent(name)}`, body, known ? { 'if-match': `"${known.version}"` } : { 'if-none-match': '*' });
  }

  const errors = $derived(findings.filter((one) => one.severity === 'error').length);

  async function drop(event: DragEvent) {
    event.preventDefault();
    over = false;
    const drop = event.dataTransfer;
    if (drop) await attempt(async () => take(await dropped(drop)));
  }

  const chosen = (files: FileList | null) => void take([...(files ?? [])].map((file) => ({ path: file.webkitRelativePath || file.name, file })));
  const stateOf = (one: Deployed['deployed'][number]) => (one.unchanged ? 'as it is live' : one.revision === 1 ? 'new' : `becomes revision ${one.revision}`);
</script>

<svelte:head><title>Import · Kanzlei</title></svelte:head>

<div class="page">
  <h1>Import</h1>
  <!-- svelte-ignore a11y_no_static_element_interactions -->
  <div class="panel drop" class:over ondragover={(event) => { event.preventDefault(); over = true; }} ondragleave={() => (over = false)} ondrop={(event) => void drop(event)}>
    <p>Drop documents here: files, a folder, or a ZIP archive that was exported. Nothing changes before you say so.</p>
    <label for="import-files">Or choose files</label>
    <input id="import-files" type="file" multiple accept=".yaml,.yml,.json,.zip" onchange={(event) => chosen(event.currentTarget.files)} />
  </div>
  {#if error}<Trouble {error} />{/if}
  <p role="status">{said}</p>
  {#if read && !read.documents.length && !read.cases.length}
    <p>None of these files is a document. A document begins with its kind: <code>workflow: NAME</code>, <code>service: NAME</code>.</p>
  {:else if read}
    <div class="panel">
      <table class="table" aria-label="Documents">
        <thead><tr><th>Document</th><th>File</th><th>State</th></tr></thead>
        <tbody>
          {#each read.documents as document (document.path)}
            {@const found = kindOf(document.text)}
            {@const state = preview?.deployed.find((one) => one.kind === found?.kind && one.name === found.name)}
            <tr><td>{found?.kind} {#if done && found?.kind === 'workflow'}<a href="/workflows/{found.name}">{found.name}</a>{:else}<strong>{found?.name}</strong>{/if}</td><td class="mono">{document.path}</td><td>{state ? stateOf(state) : ''}</td></tr>
          {/each}
          {#each read.cases as one (one.workflow)}<tr><td>cases <strong>{one.workflow}</strong></td><td></td><td>saved as a draft</td></tr>{/each}
        </tbody>
      </table>
    </div>
    {#if missing.length}<p class="why">Secrets that must be set first: {missing.join(', ')}. <a href="/services">Set them at their services</a></p>{/if}
    {#each findings as finding, index (index)}
      <p class:why={finding.severity === 'error'}>{finding.path}:{finding.line}: {finding.message}</p>
    {/each}
    {#if !done}
      <div class="row buttons">
        <Button size="small" disabled={busy || errors > 0} on:click={() => void deploy()}>Deploy all</Button>
        <Button size="small" kind="tertiary" disabled={busy} on:click={() => void save()}>Save as drafts</Button>
        {#if errors}<span class="why">{errors} error{errors === 1 ? '' : 's'}: they can be saved as drafts and mended.</span>{/if}
      </div>
    {/if}
  {/if}
</div>

<style>
  .drop {
    display: grid;
    gap: 0.5rem;
    justify-items: start;
    padding: 1.5rem;
    margin: 0.75rem 0;
    border-style: dashed;
    font-size: 0.875rem;
  }

  .drop.over {
    background: var(--open-paragraph);
    border-color: var(--cds-interactive-01);
  }

  .buttons {
    padding-top: 0.75rem;
  }

  .why {
    color: var(--cds-text-error);
  }

  p {
    font-size: 0.875rem;
  }
</style>
