<!-- The id of a job wherever one is named: a link, a button that copies it, and one that copies the line that polls it. -->
<script lang="ts">
  import { Button } from 'carbon-components-svelte';
  import Checkmark from 'carbon-icons-svelte/lib/Checkmark.svelte';
  import Terminal from 'carbon-icons-svelte/lib/Terminal.svelte';
  import { copyText } from '../lib/copy';
  import CopyText from './CopyText.svelte';

  let { id, curl, shown = 8 }: { id: string; curl: string | null; shown?: number } = $props();
  let copied = $state(false);

  async function copy() {
    await copyText(curl ?? '');
    copied = true;
    setTimeout(() => (copied = false), 1500);
  }
</script>

<!-- A table's row may be a link of its own. -->
<!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_static_element_interactions -->
<span class="row" onclick={(event) => event.stopPropagation()}>
  <a class="mono quiet" href="/jobs/{id}" title={id}>…{id.slice(-shown)}</a>
  <CopyText text={id} label="Copy the id …{id.slice(-12)}" />
  {#if curl}
    <Button
      kind="ghost"
      size="small"
      icon={copied ? Checkmark : Terminal}
      iconDescription={copied ? 'Copied' : 'Copy the curl line that polls it'}
      tooltipAlignment="end"
      on:click={() => void copy()}
    />
  {/if}
</span>

<style>
  .row {
    gap: 0;
    flex-wrap: nowrap;
  }

  a {
    margin-right: 0.25rem;
  }
</style>
