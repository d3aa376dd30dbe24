<script lang="ts">
  /** Lines that are meant to be copied. */
  import CopyText from './CopyText.svelte';

  let { text, label = 'Copy' }: { text: string; label?: string } = $props();
</script>

<div class="copyable"><pre>{text}</pre><CopyText {text} {label} /></div>

<style>
  .copyable {
    display: flex;
    align-items: start;
    gap: 0.5rem;
    background: var(--cds-field-01);
    padding: 0.25rem 0.25rem 0.25rem 0.75rem;
    min-width: 0;
  }

  pre {
    flex: 1;
    min-width: 0;
    padding: 0.25rem 0;
    white-space: pre-wrap;
    overflow-wrap: anywhere;
    font-size: 0.75rem;
    line-height: 1.25rem;
  }
</style>
