<script lang="ts">
  /** A button that copies a text, on pages without a secure connection too. */
  import Checkmark from 'carbon-icons-svelte/lib/Checkmark.svelte';
  import Copy from 'carbon-icons-svelte/lib/Copy.svelte';
  import { copyText } from '../lib/copy';

  let { text, label = 'Copy' }: { text: string; label?: string } = $props();
  let copied = $state('');

  async function copy() {
    copied = (await copyText(text)) ? 'Copied' : 'Not allowed; select it and press Ctrl+C';
    setTimeout(() => (copied = ''), 1500);
  }
</script>

<button type="button" aria-label={label} title={copied || label} onclick={() => void copy()}>
  {#if copied === 'Copied'}<Checkmark />{:else}<Copy />{/if}<span class="sr" role="status">{copied}</span>
</button>

<style>
  button {
    flex: none;
    width: 1.75rem;
    height: 1.75rem;
    border: 0;
    background: none;
    color: inherit;
    cursor: pointer;
    display: inline-flex;
    align-items: center;
    justify-content: center;
    position: relative;
  }

  button:hover {
    background: var(--cds-hover-ui);
  }
</style>
