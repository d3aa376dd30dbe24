<script lang="ts">
  import { InlineNotification } from 'carbon-components-svelte';
  import type { Refused } from '../lib/api.svelte';

  let { error }: { error: Refused } = $props();
</script>

<InlineNotification kind="error" lowContrast hideCloseButton title={error.title} subtitle={error.detail} />
