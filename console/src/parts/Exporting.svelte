<script lang="ts">
  /** A ZIP archive of what is live, or of some workflows with all they need, to download. */
  import type { Export } from '../api/types';
  import { Refused, session } from '../lib/api.svelte';

  let { names = [], label = 'Export' }: { names?: string[]; label?: string } = $props();
  let why = $state('');

  async function download() {
    why = '';
    try {
      const exported = await session.get<Export>(`/export${names.length ? `?names=${names.map(encodeURIComponent).join(',')}` : ''}`);
      const { packed } = await import('../lib/packing');
      const link = document.createElement('a');
      link.href = URL.createObjectURL(new Blob([packed(exported)], { type: 'application/zip' }));
      link.download = `${names.length === 1 ? names[0] : 'office'}.zip`;
      link.click();
      setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
    } catch (refused) {
      why = refused instanceof Refused ? refused.message : String(refused);
    }
  }
</script>

<button type="button" class="link" onclick={() => void download()}>{label}</button>
{#if why}<span role="alert">{why}</span>{/if}
