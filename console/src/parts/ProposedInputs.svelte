<script lang="ts">
  /** Inputs that messages suggest, as a document writes them. */
  import type { Proposed } from '../api/types';
  import Copyable from './Copyable.svelte';

  let { proposed, workflow, onclose }: { proposed: Proposed; workflow: string; onclose: () => void } = $props();
  const indented = (text: string, by: string) => text.replace(/^(?=.)/gm, by);
  const input = $derived(`input:\n${indented(proposed.input, '  ')}`);
  const send = $derived(`    send:\n${indented(proposed.send, '      ')}`);
</script>

<section class="panel proposed" aria-label="Proposed inputs">
  <div class="row head">
    <strong>Inputs by {proposed.messages} message{proposed.messages === 1 ? '' : 's'}</strong>
    <button type="button" class="link" onclick={onclose}>Close</button>
  </div>
  {#if proposed.inputs.length}
    <p class="dim">What some messages lack is optional. Copy both into <a href="/workflows/{workflow}/source">the source</a>, and leave out what the workflow does not need.</p>
    <Copyable text={input} label="Copy the inputs" />
    <Copyable text={send} label="Copy how the webhook takes them" />
  {:else}
    <p>Their bodies hold no members that could be inputs; take the body as a whole: <code>{'send: {text: "${delivery.body}"}'}</code></p>
  {/if}
</section>

<style>
  .proposed {
    padding: 0.75rem;
    margin: 0.75rem 0;
    display: grid;
    grid-template-columns: minmax(0, 1fr);
    gap: 0.5rem;
    font-size: 0.875rem;
  }

  .head {
    justify-content: space-between;
  }
</style>
