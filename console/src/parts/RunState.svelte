<script lang="ts">
  import CheckmarkFilled from 'carbon-icons-svelte/lib/CheckmarkFilled.svelte';
  import CircleDash from 'carbon-icons-svelte/lib/CircleDash.svelte';
  import ErrorFilled from 'carbon-icons-svelte/lib/ErrorFilled.svelte';
  import Hourglass from 'carbon-icons-svelte/lib/Hourglass.svelte';
  import InProgress from 'carbon-icons-svelte/lib/InProgress.svelte';
  import MisuseOutline from 'carbon-icons-svelte/lib/MisuseOutline.svelte';
  import PauseOutline from 'carbon-icons-svelte/lib/PauseOutline.svelte';
  import StopOutline from 'carbon-icons-svelte/lib/StopOutline.svelte';
  import Time from 'carbon-icons-svelte/lib/Time.svelte';
  import WarningAltFilled from 'carbon-icons-svelte/lib/WarningAltFilled.svelte';

  let { state, label = true }: { state: string; label?: boolean } = $props();
  const icons: Record<string, typeof CheckmarkFilled> = {
    succeeded: CheckmarkFilled,
    failed: ErrorFilled,
    caught: WarningAltFilled,
    rejected: MisuseOutline,
    running: InProgress,
    queued: Hourglass,
    waiting: PauseOutline,
    scheduled: Time,
    cancelled: StopOutline,
  };
  const Icon = $derived(icons[state] ?? CircleDash);
</script>

<span class="state {state}" title={state}><Icon size={16} aria-label={state} />{#if label}{state}{/if}</span>

<style>
  .state {
    display: inline-flex;
    gap: 0.375rem;
    align-items: center;
    vertical-align: middle;
  }

  .succeeded :global(svg) {
    fill: var(--cds-support-02);
  }

  .failed :global(svg) {
    fill: var(--cds-support-01);
  }

  .caught :global(svg),
  .rejected :global(svg) {
    fill: var(--cds-support-03);
  }
</style>
