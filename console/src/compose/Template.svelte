<script lang="ts">
  /** The template of a step: its text, to be changed, beside what it makes of sample values. */
  import type { Page } from '../api/types';
  import type { Composer } from './composer.svelte';
  import type { Desk } from './desk.svelte';

  let { composer, desk, at }: { composer: Composer; desk: Desk; at: string } = $props();
  let page: Page | undefined = $state();
  let chosen: string | undefined = $state();
  let asked = 0;
  let timer: ReturnType<typeof setTimeout> | undefined;

  const names = $derived(Object.keys(page?.templates ?? {}));
  const name = $derived(chosen && names.includes(chosen) ? chosen : (page?.template ?? ''));
  const known = $derived(names.includes(name));
  const drawn = $derived(page?.format === 'html' || page?.format === 'pdf');

  async function look() {
    const mine = ++asked;
    try {
      const answer = await composer.ask<Page>('page', { at, values: desk.samples });
      if (mine === asked) page = answer;
    } catch {
      if (mine === asked) page = undefined;
    }
  }

  // Text, template and samples decide what is made.
  $effect(() => {
    void [composer.text, composer.templates, desk.samples, at];
    clearTimeout(timer);
    timer = setTimeout(() => void look(), 250);
    return () => clearTimeout(timer);
  });

  /** The console allows no styles in its pages; those of the preview are set from outside, and no script of it runs. */
  function dress(frame: HTMLIFrameElement) {
    const shown = frame.contentDocument;
    const own = frame.contentWindow as (Window & typeof globalThis) | null;
    if (!shown || !own) return;
    shown.adoptedStyleSheets = [...shown.querySelectorAll('style')].map((style) => {
      const sheet = new own.CSSStyleSheet();
      sheet.replaceSync(style.textContent ?? '');
      return sheet;
    });
    for (const element of shown.querySelectorAll<HTMLElement>('[style]')) element.style.cssText = element.getAttribute('style') ?? '';
  }

  function write(text: string) {
    if (!page) return;
    page = { ...page, templates: { ...page.templates, [name]: text } };
    composer.writeTemplates(page.templates);
  }
</script>

{#if page?.template}
  <div class="template" data-template={page.template}>
    <div class="side">
      <div class="tabs" role="tablist" aria-label="Templates">
        {#each known ? names : [name, ...names] as one (one)}
          <button type="button" role="tab" class="link" aria-selected={one === name} onclick={() => (chosen = one)}>{one}</button>
        {/each}
      </div>
      {#if known}
        <textarea class="written mono" aria-label="Template {name}" rows="14" spellcheck="false" value={page.templates[name]} oninput={(event) => write(event.currentTarget.value)}></textarea>
      {:else}
        <p class="dim">There is no template {name} yet. <button type="button" class="link" onclick={() => write('<p>Hello</p>\n')}>Create it</button></p>
      {/if}
    </div>
    <div class="side">
      <span class="dim">{page.format === 'pdf' ? 'Page, before it is printed' : 'Preview'}{page.made_up?.length ? `, with made-up values of ${page.made_up.join(', ')}` : ''}</span>
      {#if page.fault}
        <p class="fault" role="status">{page.fault}</p>
        {#if page.made_up?.length}<p class="dim">Try the workflow, or run it once: the values are those of the last trial or run then.</p>{/if}
      {:else if drawn}
        <iframe sandbox="allow-same-origin" title="Preview of {page.template}" srcdoc={page.text} onload={(event) => dress(event.currentTarget as HTMLIFrameElement)}></iframe>
      {:else}
        <pre class="written mono">{page.text}</pre>
      {/if}
    </div>
  </div>
{/if}

<style>
  .template {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(min(20rem, 100%), 1fr));
    gap: 0.75rem;
    padding-top: 0.5rem;
    font-size: 0.8125rem;
  }

  .side {
    display: grid;
    grid-template-rows: auto 1fr;
    gap: 0.25rem;
    min-width: 0;
  }

  .tabs {
    display: flex;
    flex-wrap: wrap;
    gap: 0.25rem 0.75rem;
  }

  .tabs [aria-selected='true'] {
    font-weight: 600;
    text-decoration: underline;
  }

  .written {
    min-height: 16rem;
    margin: 0;
    overflow: auto;
    white-space: pre-wrap;
  }

  iframe {
    width: 100%;
    min-height: 26rem;
    height: 100%;
    border: 1px solid var(--cds-ui-03);
    /* Pages are written for paper. */
    background: #fff;
    color-scheme: light;
  }

  .fault {
    color: var(--cds-support-01);
    overflow-wrap: anywhere;
  }
</style>
