<script lang="ts">
  import type { Endpoint } from '../api/types';
  import CopyText from './CopyText.svelte';

  let { endpoint }: { endpoint: Endpoint } = $props();
</script>

<div class="row mono">
  <span class="method">{endpoint.method}</span>
  <span class="ellipsis" title={endpoint.url}>{endpoint.url}</span>
  <CopyText text={endpoint.url} label="Copy the address {endpoint.method} {endpoint.path}" />
</div>

<style>
  .method {
    font-weight: 600;
  }
</style>
