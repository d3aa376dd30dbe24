<script lang="ts">
  /** Findings, each with its fixes to click. */
  import type { Diagnostic } from '../api/types';
  import Words from '../parts/Words.svelte';
  import type { Composer } from './composer.svelte';

  let { composer, findings }: { composer: Composer; findings: Diagnostic[] } = $props();
</script>

{#each findings as finding, index (`${finding.code} ${finding.start} ${index}`)}
  <div class="finding" class:warning={finding.severity === 'warning'} role="note">
    <Words text={finding.message + (finding.help && !finding.fixes?.length ? `; ${finding.help}` : '')} />
    {#each finding.fixes ?? [] as fix (fix.title)}
      <button type="button" class="fix" onclick={() => void composer.edit([fix.edit])}>{fix.title.replace(/`/g, '')}</button>
    {/each}
    <a class="why" href="/handbook/findings#{finding.code}" target="_blank" rel="noopener" aria-label="{finding.code} in the handbook">{finding.code}</a>
  </div>
{/each}

<style>
  .finding {
    color: var(--cds-text-error);
    font-size: 0.75rem;
    line-height: 1.125rem;
    padding: 0.125rem 0;
    overflow-wrap: anywhere;
  }

  .warning {
    color: var(--warning-text);
  }

  .why {
    color: var(--cds-text-02);
    padding: 0.25rem;
  }

  .fix {
    border: 0;
    background: none;
    padding: 0.25rem;
    color: var(--cds-link-01);
    text-decoration: underline;
    font: inherit;
    cursor: pointer;
  }
</style>
