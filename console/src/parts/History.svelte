<script lang="ts">
  /** The revisions of a workflow and its draft: compared with what is live, restored. */
  import { Button, Modal, Tag } from 'carbon-components-svelte';
  import type { Draft, DraftLine, Preview, Previews, RevisionText, Workflow } from '../api/types';
  import type { Composer } from '../compose/composer.svelte';
  import { Refused, session, Watched } from '../lib/api.svelte';
  import { router } from '../lib/router.svelte';
  import { ago, time } from '../lib/show';
  import Copyable from './Copyable.svelte';
  import Comparison from './Comparison.svelte';
  import Exporting from './Exporting.svelte';
  import Rename from './Rename.svelte';
  import Retrace from './Retrace.svelte';
  import Trouble from './Trouble.svelte';

  let { workflow, composer, draft, onchange }: { workflow: Workflow; composer: Composer; draft: DraftLine | undefined; onchange: () => void } = $props();
  /** The text that is compared with what is live. */
  let other: { name: string; text: string } | undefined = $state(undefined);
  let error: Refused | undefined = $state(undefined);
  let said = $state('');

  const path = $derived(`workflow/${encodeURIComponent(workflow.name)}`);

  async function attempt(what: () => Promise<void>) {
    error = undefined;
    said = '';
    try {
      await what();
    } catch (refused) {
      error = refused instanceof Refused ? refused : new Refused(0, 'It failed', String(refused));
    }
  }

  const revisionText = (revision: number) => session.get<RevisionText>(`/revisions/${path}/${revision}`);

  const compare = (revision: number) =>
    attempt(async () => {
      other = { name: `${workflow.name}@${revision}`, text: (await revisionText(revision)).text };
    });

  const compareDraft = () =>
    attempt(async () => {
      other = { name: `${workflow.name}@draft`, text: (await session.get<Draft>(`/drafts/${path}`)).text };
    });

  const restore = (revision: number) =>
    attempt(async () => {
      const { text, file } = await revisionText(revision);
      await session.ask('PUT', `/drafts/${path}`, { text, file }, { 'if-none-match': '*' });
      said = `Revision ${revision} is a draft now.`;
      onchange();
    });

  let round = $state(0);
  const previews = new Watched<Previews>(() => {
    void round;
    return '/previews';
  }, 10_000);
  const here = (preview: Preview) => preview.drafts.some((one) => one.kind === 'workflow' && one.name === workflow.name);

  const open = () =>
    attempt(async () => {
      await session.ask('POST', '/previews', { drafts: [{ kind: 'workflow', name: workflow.name }] });
      round += 1;
    });

  const close = (id: string) =>
    attempt(async () => {
      await session.ask('DELETE', `/previews/${id}`);
      round += 1;
    });

  let retiring = $state(false);
  const retire = () =>
    attempt(async () => {
      retiring = false;
      await session.ask('DELETE', `/workflows/${encodeURIComponent(workflow.name)}`);
      router.go('/workflows');
    });

  const discard = () =>
    attempt(async () => {
      await session.ask('DELETE', `/drafts/${path}`, undefined, { 'if-match': `"${draft?.version}"` });
      said = 'The draft is discarded.';
      other = undefined;
      onchange();
    });
</script>

{#if error}<Trouble {error} />{/if}
<p class="said" role="status">{said}</p>
<p class="export"><Exporting names={[workflow.name]} label="Export it with all it needs" /></p>
<div class="panel">
  <table class="table">
    <thead><tr><th>Revision</th><th>Deployed</th><th>By</th><th>State</th><th><span class="sr">Actions</span></th></tr></thead>
    <tbody>
      {#if draft}
        <tr>
          <td class="mono">{workflow.name}@draft</td>
          <td title={draft.changed}>saved {ago(draft.changed)}</td>
          <td>{draft.operator}</td>
          <td><Tag type="blue" size="sm">{draft.state}</Tag></td>
          <td class="actions">
            <Button kind="ghost" size="small" on:click={compareDraft}>Compare with live</Button>
            <Button kind="ghost" size="small" on:click={open}>Preview address</Button>
            <Button kind="danger-ghost" size="small" on:click={discard}>Discard</Button>
          </td>
        </tr>
      {/if}
      {#each workflow.revisions as revision (revision.revision)}
        <tr>
          <td class="mono">{workflow.name}@{revision.revision}</td>
          <td title={revision.created}>{ago(revision.created)}</td>
          <td>{revision.operator}</td>
          <td>{#if revision.live}<Tag type="green" size="sm">live</Tag>{/if}</td>
          <td class="actions">
            {#if revision.live}
              <Button kind="danger-ghost" size="small" on:click={() => (retiring = true)}>Retire …</Button>
            {:else}
              <Button kind="ghost" size="small" on:click={() => compare(revision.revision)}>Compare with live</Button>
              <Button kind="ghost" size="small" disabled={draft !== undefined} on:click={() => restore(revision.revision)}>Restore as a draft</Button>
            {/if}
          </td>
        </tr>
      {/each}
    </tbody>
  </table>
</div>
{#if other}
  {@const isDraft = other.name.endsWith('@draft')}
  <Comparison
    before={isDraft ? workflow.source : other.text}
    after={isDraft ? other.text : workflow.source}
    names={isDraft ? [`${workflow.name}@${workflow.revision}`, other.name] : [other.name, `${workflow.name}@${workflow.revision}`]} />
{/if}
<Retrace {composer} />
<Rename workflow={workflow.name} />
<Modal size="xs" danger open={retiring} modalHeading="Retire {workflow.name}?" primaryButtonText="Retire it" secondaryButtonText="Leave"
  on:click:button--secondary={() => (retiring = false)} on:close={() => (retiring = false)} on:submit={() => void retire()}>
  <p>Its addresses answer 404 from now on and its timetables stop. Jobs that wait run to their end; its revisions and runs are kept.</p>
</Modal>
{#each previews.value?.previews.filter(here) ?? [] as preview (preview.id)}
  <div class="preview">
    <p class="dim">
      The draft can be called here until {time(preview.expires)}, by pages of any origin; calls are trials.
      {#if preview.refused}<strong>Not now: {preview.refused}</strong>{/if}
    </p>
    <div class="row">
      <Copyable text={preview.endpoints[0]?.curl ?? preview.url} label="Copy a request of the preview" />
      <Button kind="danger-ghost" size="small" on:click={() => close(preview.id)}>Close</Button>
    </div>
  </div>
{/each}
<style>
  .said:empty {
    display: none;
  }

  .said {
    margin-bottom: 0.5rem;
    font-size: 0.875rem;
  }

  .export {
    font-size: 0.8125rem;
    padding-bottom: 0.25rem;
  }

  .preview {
    margin-top: 0.75rem;
  }

  .preview p {
    font-size: 0.8125rem;
    margin-bottom: 0.25rem;
  }

  .preview :global(.bx--snippet) {
    flex: 1;
    max-width: none;
  }

  .actions {
    text-align: right;
    white-space: nowrap;
  }
</style>
