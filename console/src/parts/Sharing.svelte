<script lang="ts">
  /** What a new revision serves beside the live one, and when it is taken back by itself. */
  import { NumberInput, Select, SelectItem, TextInput } from 'carbon-components-svelte';
  import type { Asked } from '../lib/gradual';

  let { asked = $bindable() }: { asked: Asked } = $props();
</script>

<div class="fields">
  <NumberInput id="share-percent" labelText="Share, in percent" min={0} max={100} step={1} allowEmpty bind:value={asked.share} />
  <Select id="share-per" labelText="Drawn for" bind:selected={asked.per}>
    <SelectItem value="request" text="each request and job" />
    <SelectItem value="caller" text="each key and token" />
  </Select>
  <TextInput id="share-header" labelText="Requests with the header field" placeholder="X-Ring: new" bind:value={asked.header} />
  <TextInput id="share-keys" labelText="Requests with the keys" placeholder="bridge, agency" bind:value={asked.keys} />
  <TextInput id="share-tags" labelText="Jobs with the tags" placeholder="imo-9074720" bind:value={asked.tags} />
  <NumberInput id="share-margin" labelText="Margin of failures, in points" helperText="Taken back when its share of failures or rejections is higher by more; empty: never" min={0} max={100} step={1} allowEmpty bind:value={asked.margin} />
  <NumberInput id="share-slower" labelText="Margin of times, in percent" helperText="Taken back when its 95 % quantile is higher by more; empty: never" min={20} max={10000} step={10} allowEmpty bind:value={asked.slower} />
  <NumberInput id="share-least" labelText="Compared from its runs on" helperText="How many runs it needs first; empty: 50" min={1} step={10} allowEmpty bind:value={asked.least} />
</div>

<style>
  .fields {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(15rem, 1fr));
    gap: 1rem;
  }
</style>
