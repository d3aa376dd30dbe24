<script lang="ts">
  import { CopyButton } from 'carbon-components-svelte';
  import type { Endpoint } from '../api/types';

  let { endpoint }: { endpoint: Endpoint } = $props();
</script>

<div class="row mono">
  <span class="method">{endpoint.method}</span>
  <span class="ellipsis" title={endpoint.url}>{endpoint.url}</span>
  <CopyButton text={endpoint.url} iconDescription="Copy the address {endpoint.method} {endpoint.path}" feedback="Copied" />
</div>

<style>
  .method {
    font-weight: 600;
  }
</style>
