<script lang="ts">
  /** A sentence in which code stands between backquotes. */
  let { text }: { text: string } = $props();
  const parts = $derived(text.split('`'));
</script>

{#each parts as part, index (index)}{#if index % 2}<code>{part}</code>{:else}{part}{/if}{/each}

<style>
  code {
    font-size: 0.95em;
  }
</style>
