<script lang="ts">
  /** The input of a trial: a field for each input of the draft, or all of it as JSON. */
  import type { Wanted } from '../api/types';
  import { block, encoded } from '../lib/show';
  import { controlOf, read, written } from './trying';

  interface Props {
    wanted: Wanted[];
    /** What the chosen source gives. */
    base: Record<string, unknown>;
  }
  let { wanted, base }: Props = $props();
  /** What was typed over it, by name. */
  let typed: Record<string, string> = $state({});
  let whole = $state('');
  let asJson = $state(false);

  $effect(() => {
    // Another source begins anew.
    void base;
    typed = {};
    whole = block(base);
  });

  /** The input as it stands; throws where it cannot be read. `changed` says whether anything differs from the source. */
  export function value(): { input: Record<string, unknown>; changed: boolean } {
    if (asJson) return { input: JSON.parse(whole || '{}') as Record<string, unknown>, changed: whole !== block(base) };
    const input = { ...base };
    for (const one of wanted) {
      const text = typed[one.name];
      if (text === undefined) continue;
      const value = read(one, text);
      if (value === undefined) delete input[one.name];
      else input[one.name] = value;
    }
    return { input, changed: Object.keys(typed).length > 0 };
  }

  const shown = (one: Wanted) => typed[one.name] ?? written(one, base[one.name]);
  const put = (one: Wanted, text: string) => (typed = { ...typed, [one.name]: text });
  const choices = (one: Wanted) => (one.schema as { enum?: unknown[] }).enum ?? [];

  const media = (one: Wanted) => ((one.schema as Record<string, { media?: string[] }>)['x-file']?.media ?? []).join(',');

  /** Describes a file with its bytes, as a trial reads it. */
  async function take(one: Wanted, file: File | undefined) {
    if (!file) return;
    put(one, JSON.stringify({ name: file.name, media: file.type || 'application/octet-stream', base64: encoded(await file.arrayBuffer()) }));
  }

  /** What stands beside the choice of a file: the one that is given now. */
  function named(text: string): string {
    try {
      const file = JSON.parse(text) as { name?: string; media?: string };
      return file.name ? `${file.name}, ${file.media ?? ''}` : '';
    } catch {
      return '';
    }
  }

  function toggle() {
    try {
      if (!asJson) whole = block(value().input);
    } catch {
      // What cannot be read stays as it was.
    }
    asJson = !asJson;
  }
</script>

<div class="panel input">
  <div class="row head">
    <span>Input of the trial</span>
    <button type="button" class="link" onclick={toggle}>{asJson ? 'as a form' : 'as JSON'}</button>
  </div>
  {#if asJson}
    <textarea id="try-json" aria-label="Input as JSON" class="control mono" rows={Math.min(12, whole.split('\n').length + 1)} bind:value={whole} spellcheck="false"></textarea>
  {:else}
    <div class="fields">
      {#each wanted as one (one.name)}
        {@const id = `try-${one.name}`}
        {@const control = controlOf(one)}
        <label for={id} class="mono">{one.name}{one.required ? '' : '?'}</label>
        {#if control === 'choice' || control === 'truth'}
          <select {id} class="control" value={shown(one)} onchange={(event) => put(one, event.currentTarget.value)}>
            <option value=""></option>
            {#each control === 'truth' ? [true, false] : choices(one) as choice (choice)}<option value={written(one, choice)}>{written(one, choice)}</option>{/each}
          </select>
        {:else if control === 'file'}
          <span class="file">
            <input {id} type="file" accept={media(one)} onchange={(event) => void take(one, event.currentTarget.files?.[0])} />
            <span class="dim">{named(shown(one))}</span>
          </span>
        {:else if control === 'json'}
          <textarea {id} class="control mono" rows="2" value={shown(one)} oninput={(event) => put(one, event.currentTarget.value)} spellcheck="false"></textarea>
        {:else}
          <input {id} class="control mono" type={one.secret ? 'password' : 'text'} inputmode={control === 'number' ? 'decimal' : undefined} autocomplete="off" value={shown(one)} oninput={(event) => put(one, event.currentTarget.value)} />
        {/if}
      {:else}
        <p class="dim">The draft declares no input.</p>
      {/each}
    </div>
  {/if}
</div>

<style>
  .input {
    padding: 0.5rem 0.75rem 0.75rem;
    display: grid;
    gap: 0.375rem;
    font-size: 0.8125rem;
  }

  .file {
    display: grid;
    gap: 0.125rem;
    font-size: 0.8125rem;
  }

  .head {
    justify-content: space-between;
  }

  .fields {
    display: grid;
    grid-template-columns: max-content minmax(0, 24rem) max-content minmax(0, 24rem);
    gap: 0.25rem 0.75rem;
    align-items: center;
  }

  @media (max-width: 60rem) {
    .fields {
      grid-template-columns: max-content minmax(0, 1fr);
    }
  }
</style>
