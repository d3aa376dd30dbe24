<script lang="ts">
  /** The span that charts look back over, in minutes. */
  import { Select, SelectItem } from 'carbon-components-svelte';

  let { minutes = $bindable() }: { minutes: string } = $props();
</script>

<Select labelText="Over" size="sm" inline bind:selected={minutes}>
  <SelectItem value="15" text="15 minutes" />
  <SelectItem value="60" text="an hour" />
  <SelectItem value="360" text="6 hours" />
  <SelectItem value="1440" text="a day" />
</Select>
