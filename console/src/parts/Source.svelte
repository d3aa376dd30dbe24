<script lang="ts">
  /** A document with line numbers; the lines of one step may be marked. */
  import { tick } from 'svelte';

  let { text, from, to }: { text: string; from?: number; to?: number } = $props();
  const lines = $derived(text.replace(/\n$/, '').split('\n'));
  let box: HTMLElement | undefined = $state();

  $effect(() => {
    if (from === undefined) return;
    void tick().then(() => {
      const line = box?.querySelector<HTMLElement>('.marked');
      if (box && line) box.scrollTo({ top: line.offsetTop - box.clientHeight / 3 });
    });
  });
</script>

<!-- The source scrolls by itself, so it must be reachable by keyboard. -->
<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<div class="panel source" bind:this={box} tabindex="0" role="region" aria-label="Source">
  <pre>{#each lines as line, index (index)}<span
        class="line"
        class:marked={from !== undefined && index + 1 >= from && index + 1 <= (to ?? from)}
        class:comment={line.trimStart().startsWith('#')}><span class="at">{index + 1}</span>{line}
</span>{/each}</pre>
</div>

<style>
  .source {
    overflow: auto;
    max-height: calc(100vh - 12rem);
    position: relative;
    padding: 0.5rem 0;
  }

  pre {
    font-size: 0.75rem;
    line-height: 1.125rem;
    min-width: max-content;
  }

  .line {
    display: block;
    padding-right: 0.75rem;
  }

  .at {
    display: inline-block;
    width: 2.25rem;
    padding-right: 0.75rem;
    text-align: right;
    color: var(--cds-text-03);
    user-select: none;
  }

  .marked {
    background: var(--cds-selected-ui);
    box-shadow: inset 3px 0 var(--cds-interactive-04);
  }

  .comment {
    color: var(--cds-text-02);
    font-style: italic;
  }
</style>
