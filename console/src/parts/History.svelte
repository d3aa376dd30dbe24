<script lang="ts">
  /** The revisions of a workflow and its draft: compared with what is live, restored. */
  import { Button, Tag } from 'carbon-components-svelte';
  import type { Draft, DraftLine, RevisionText, Workflow } from '../api/types';
  import { Refused, session } from '../lib/api.svelte';
  import { ago } from '../lib/show';
  import Comparison from './Comparison.svelte';
  import Trouble from './Trouble.svelte';

  let { workflow, draft, onchange }: { workflow: Workflow; draft: DraftLine | undefined; onchange: () => void } = $props();
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
<div class="panel">
  <table class="bx--data-table bx--data-table--compact">
    <thead><tr><th>Revision</th><th>Deployed</th><th>By</th><th></th><th></th></tr></thead>
    <tbody>
      {#if draft}
        <tr>
          <td class="mono">{workflow.name}@draft</td>
          <td title={draft.changed}>saved {ago(draft.changed)}</td>
          <td>{draft.operator}</td>
          <td><Tag type="blue" size="sm">{draft.state}</Tag></td>
          <td class="actions">
            <Button kind="ghost" size="small" on:click={compareDraft}>Compare with live</Button>
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
            {#if !revision.live}
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

<style>
  .said:empty {
    display: none;
  }

  .said {
    margin-bottom: 0.5rem;
    font-size: 0.875rem;
  }

  .actions {
    text-align: right;
    white-space: nowrap;
  }
</style>
