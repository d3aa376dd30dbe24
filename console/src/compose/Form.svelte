<script lang="ts">
  /** A paragraph unfolded: its keys as fields, those it could have to add, or its text. */
  import type { Diagnostic, Field as FieldOf } from '../api/types';
  import type { Composer } from './composer.svelte';
  import type { Desk } from './desk.svelte';
  import Field from './Field.svelte';
  import Findings from './Findings.svelte';
  import InputRow from './InputRow.svelte';
  import Template from './Template.svelte';
  import { insert, parent, remove, rename, set, text as textChange, within } from './tree';

  let { composer, desk, findings }: { composer: Composer; desk: Desk; findings: Diagnostic[] } = $props();
  const form = $derived(composer.form);
  /** Keys that were asked for and are not there yet. */
  let asked: string[] = $state([]);
  let asText = $state(false);
  let latest: string | undefined = $state(undefined);
  let typed: string | undefined = $state(undefined);
  let timer: ReturnType<typeof setTimeout> | undefined;

  const fields = $derived(form?.fields ?? []);
  /** A field is shown with the groups around it. */
  const visible = $derived.by(() => {
    const hidden: string[] = [];
    return fields.filter((field) => {
      const show = field.shown || asked.includes(field.at);
      const inside = hidden.some((group) => within(field.at, group));
      if (!show && !inside) hidden.push(field.at);
      return show && !inside;
    });
  });
  const addable = $derived(fields.filter((field) => !visible.includes(field) && (field.depth === 0 || visible.some((one) => one.at === parent(field.at)))));
  const catches = $derived(form !== null && form !== undefined && form.kind !== '' && /^(steps|on_failure)\//.test(form.at) && !form.at.endsWith('/unless') && !composer.sheet?.ends.some((end) => parent(end.at) === `${form.at}/catch`));

  /** The findings of each field: those whose innermost field it is. */
  const byField = $derived.by(() => {
    const out = new Map<string, Diagnostic[]>();
    for (const finding of findings) {
      const around = visible.filter((one) => one.range && one.range.start <= finding.start && finding.start <= one.range.end);
      const best = around.sort((a, b) => size(a) - size(b))[0];
      const at = best?.at ?? '';
      out.set(at, [...(out.get(at) ?? []), finding]);
    }
    return out;
  });
  const size = (field: FieldOf) => (field.range ? field.range.end - field.range.start : Infinity);

  async function add(field: FieldOf) {
    latest = field.at;
    if (field.shape === 'group' || field.shape === 'names') {
      asked = [...asked, field.at];
      if (field.shape === 'names') await addMember(field.at);
      return;
    }
    asked = [...asked, field.at];
    if (field.shape === 'switch') await composer.change([set(field.at, 'true')]);
  }

  function freeName(at: string, base: string): string {
    const taken = fields.map((field) => field.at);
    for (let number = 1; ; number += 1) {
      const name = number === 1 ? base : `${base}${number}`;
      if (!taken.includes(`${at}/${name}`)) return name;
    }
  }

  async function addMember(at: string) {
    const last = at.split('/').at(-1) ?? '';
    const branches = last === 'arms' || last === 'together';
    const name = freeName(at, branches ? 'branch' : last === 'functions' ? 'compute' : 'name');
    latest = `${at}/${name}`;
    if (branches) await composer.change([set(`${at}/${name}`, '[]')]);
    else if (last === 'functions') await composer.change([textChange(`${at}/${name}`, '(value) => value')]);
    else if (last === 'replies') await composer.change([set(`${at}/200`, '{type: object}')]);
    else if (last === 'input') await composer.change([set(`${at}/${name}`, '{type: string}')]);
    else await composer.change([textChange(`${at}/${name}`, '')]);
  }

  /** The paragraph whose text is being written; another one may be open when it is saved. */
  let written: { at: string; source: string } | undefined;

  function writeSource(value: string) {
    typed = value;
    written = form && { at: form.at, source: value };
    clearTimeout(timer);
    timer = setTimeout(flush, 350);
  }

  /** Writes the text of the paragraph as far as it was typed. */
  function flush() {
    clearTimeout(timer);
    if (written) void composer.change([set(written.at, written.source)], composer.open, `text ${written.at}`);
    written = undefined;
  }

  // What was typed is written before the paragraph is folded.
  $effect(() => flush);

  const adds = (field: FieldOf) => field.shape === 'names' && !/\/(send|bind)$/.test(field.at);
  const whole = $derived(['input', 'functions', 'replies'].includes(form?.kind ?? ''));
</script>

{#if form}
  <div class="form" data-form={form.at || 'head'}>
    {#if asText}
      <textarea class="written mono" aria-label="Text of this paragraph" rows={Math.min(24, form.source.split('\n').length + 1)} value={typed ?? form.source} spellcheck="false"
        oninput={(event) => writeSource(event.currentTarget.value)} onblur={() => { flush(); typed = undefined; }}></textarea>
      <Findings {composer} {findings} />
    {:else}
      {#if form.kind === 'input'}
        <div class="inputs" role="table" aria-label="Input">
          <div class="inputs-head dim" role="row">
            <span role="columnheader">name</span><span role="columnheader">type</span><span role="columnheader">rule</span><span role="columnheader">required</span><span role="columnheader">default</span><span role="columnheader">example</span><span role="columnheader"><span class="sr">Actions</span></span>
          </div>
          {#each fields as field (field.at)}
            <InputRow {composer} {desk} {field} findings={byField.get(field.at) ?? []} first={latest === field.at} />
          {/each}
        </div>
      {:else}
        {#each visible as field (field.at)}
          {#if field.shape === 'group' || field.shape === 'names'}
            <div class="group" style:padding-left="{Math.max(0, field.depth - 1)}rem">
              <span title={field.about}>{field.label}</span>
              {#if field.free}
                <button type="button" class="link" onclick={() => void composer.change([remove(field.at)])}>remove</button>
              {/if}
              {#if adds(field)}<button type="button" class="link" onclick={() => void addMember(field.at)}>add</button>{/if}
              <Findings {composer} findings={byField.get(field.at) ?? []} />
            </div>
          {:else if field.shape === 'branch'}
            <div class="branch">
              <input class="mono" aria-label="Name of the branch {field.label}" value={field.label}
                onchange={(event) => void composer.change([rename(field.at, event.currentTarget.value.trim())])} />
              <button type="button" class="link" onclick={() => void composer.change([remove(field.at)])}>remove</button>
            </div>
          {:else}
            <Field {composer} {desk} {field} findings={byField.get(field.at) ?? []} first={latest === field.at} />
          {/if}
        {/each}
      {/if}
      <Findings {composer} findings={byField.get('') ?? []} />
      {#if form.kind === 'render'}<Template {composer} {desk} at={form.at} />{/if}
    {/if}
    <div class="more">
      {#if whole && !asText}<button type="button" class="link strong" onclick={() => void addMember(form.at)}>Add {form.kind === 'input' ? 'an input' : form.kind === 'functions' ? 'a function' : 'a status'}</button>{/if}
      {#if !asText && addable.length}
        <span class="dim">Add</span>
        {#each addable as field (field.at)}<button type="button" class="link" title={field.about} onclick={() => void add(field)}>{field.depth > 0 ? field.at.split('/').slice(-2).join(' ') : field.label}</button>{/each}
      {/if}
      {#if catches && !asText}
        <button type="button" class="link" title="Steps that run when this step fails" onclick={() => void composer.change([insert(`${form.at}/catch/0`, 'note: ${failure.kind}')], form.at)}>catch</button>
      {/if}
      {#if form.at}
        <button type="button" class="link right" aria-pressed={asText} onclick={() => { asText = !asText; typed = undefined; }}>{asText ? 'Edit as a form' : 'Edit as text'}</button>
      {/if}
    </div>
  </div>
{/if}

<style>
  .form {
    container-type: inline-size;
    padding: 0.25rem 0;
    display: grid;
  }

  .group {
    font-size: 0.8125rem;
    font-weight: 600;
    padding-top: 0.375rem;
  }

  .branch {
    padding: 0.125rem 0 0.125rem 1rem;
  }

  .branch input {
    background: var(--cds-field-02);
    border: 0;
    border-bottom: 1px solid var(--cds-ui-04);
    color: inherit;
    padding: 0.375rem 0.5rem;
  }

  .more {
    display: flex;
    flex-wrap: wrap;
    gap: 0.125rem 0.375rem;
    align-items: center;
    padding-top: 0.375rem;
    font-size: 0.8125rem;
  }

  .strong {
    font-weight: 600;
  }

  .right {
    margin-left: auto;
  }

  .inputs {
    display: grid;
    gap: 0.125rem;
  }

  .inputs-head {
    display: grid;
    grid-template-columns: var(--input-columns);
    gap: 0.375rem;
    font-size: 0.75rem;
  }

  .form {
    --input-columns: minmax(4rem, 1.1fr) minmax(5rem, 1fr) minmax(4rem, 1.3fr) 4rem minmax(3rem, 0.9fr) minmax(4rem, 1.2fr) 3.5rem;
  }
</style>
