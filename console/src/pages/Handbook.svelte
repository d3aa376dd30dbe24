<script lang="ts">
  /** The handbook: its chapters, and a search over all of them. */
  import { tick } from 'svelte';
  import chapters from 'virtual:handbook';
  import { found } from '../lib/handbook';
  import { router } from '../lib/router.svelte';
  import Nothing from './Nothing.svelte';

  let { chapter: id }: { chapter: string } = $props();
  const chapter = $derived(chapters.find((one) => one.id === (id || chapters[0]?.id)));
  const query = $derived(router.query.get('text') ?? '');
  const hits = $derived(query.trim() ? found(chapters, query) : []);

  // The browser scrolls to an anchor before the chapter is there.
  $effect(() => {
    void chapter;
    void router.hash;
    if (query) return;
    void tick().then(() => {
      const at = router.hash && document.getElementById(router.hash);
      if (at) at.scrollIntoView();
    });
  });
</script>

<svelte:head><title>{chapter?.title ?? 'Handbook'} · Kanzlei</title></svelte:head>

<div class="page">
  <div class="top">
    <h1>{query ? 'Handbook' : (chapter?.title ?? 'Handbook')}</h1>
    <form role="search" onsubmit={(event) => event.preventDefault()}>
      <label class="sr" for="handbook-search">Search the handbook</label>
      <input id="handbook-search" class="control" type="search" placeholder="Search the handbook" value={query} oninput={(event) => router.filter('text', event.currentTarget.value)} autocomplete="off" />
    </form>
  </div>
  <div class="columns">
    <nav aria-label="Chapters">
      {#each chapters as one (one.id)}
        <a href="/handbook/{one.id}" aria-current={one.id === chapter?.id && !query ? 'page' : undefined}>{one.title}</a>
        {#if one.id === chapter?.id && !query}
          {#each one.sections.filter((section) => section.depth === 2) as section (section.id)}<a class="inner" href="/handbook/{one.id}#{section.id}">{section.title}</a>{/each}
        {/if}
      {/each}
    </nav>
    {#if query.trim()}
      <div class="panel text" aria-live="polite">
        {#each hits as hit (hit.chapter.id + hit.section.id)}
          <p class="hit"><a href="/handbook/{hit.chapter.id}{hit.section.id ? `#${hit.section.id}` : ''}">{hit.chapter.title}{hit.section.id ? ` · ${hit.section.title}` : ''}</a><br />
            <span class="dim">{hit.before}<mark>{hit.match}</mark>{hit.after}</span></p>
        {:else}
          <p class="dim">No section has these words. <a href="/handbook/{chapter?.id ?? ''}">Back to the chapter</a></p>
        {/each}
      </div>
    {:else if chapter}
      <article class="panel text">
        {#each chapter.sections as section (section.id)}
          {#if section.id}<svelte:element this={section.depth === 2 ? 'h2' : 'h3'} id={section.id}>{section.title}</svelte:element>{/if}
          {@html section.html}
        {/each}
      </article>
    {:else}
      <Nothing />
    {/if}
  </div>
</div>

<style>
  .top {
    display: flex;
    flex-wrap: wrap;
    justify-content: space-between;
    align-items: center;
    gap: 0.5rem;
    padding-bottom: 0.5rem;
  }

  input {
    min-width: 18rem;
  }

  .columns {
    display: grid;
    grid-template-columns: 13rem minmax(0, 54rem);
    gap: 1rem;
    align-items: start;
  }

  nav {
    display: grid;
    font-size: 0.8125rem;
    position: sticky;
    top: 4rem;
    max-height: calc(100vh - 5rem);
    overflow-y: auto;
  }

  nav a {
    padding: 0.25rem 0.5rem;
    min-height: 1.5rem;
    color: var(--cds-text-02);
    text-decoration: none;
  }

  nav a:hover {
    background: var(--cds-hover-ui);
  }

  nav a[aria-current] {
    color: var(--cds-text-01);
    font-weight: 600;
  }

  nav .inner {
    padding-left: 1.5rem;
  }

  .text {
    padding: 1rem 1.5rem 2rem;
    font-size: 0.875rem;
    line-height: 1.375rem;
  }

  .hit {
    padding-bottom: 0.75rem;
  }

  mark {
    background: var(--warning-back);
    color: var(--warning-front);
  }

  .text h2,
  .text h3 {
    font-size: 1.125rem;
    font-weight: 600;
    padding: 1.25rem 0 0.375rem;
    scroll-margin-top: 4rem;
  }

  .text h3 {
    font-size: 0.9375rem;
    padding-top: 0.875rem;
  }

  .text :global(p),
  .text :global(li) {
    font-size: 0.875rem;
    line-height: 1.375rem;
  }

  .text :global(p),
  .text :global(ul),
  .text :global(ol),
  .text :global(table),
  .text :global(pre) {
    margin-bottom: 0.625rem;
  }

  .text :global(ul) {
    list-style: disc;
    padding-left: 1.25rem;
  }

  .text :global(ol) {
    list-style: decimal;
    padding-left: 1.25rem;
  }

  .text :global(pre) {
    overflow-x: auto;
    padding: 0.5rem 0.75rem;
    background: var(--cds-field-02, var(--cds-ui-background));
    line-height: 1.25rem;
    font-size: 0.75rem;
  }

  .text :global(pre code) {
    font-size: inherit;
  }

  .text :global(table) {
    display: block;
    overflow-x: auto;
    border-collapse: collapse;
    font-size: 0.8125rem;
  }

  .text :global(td),
  .text :global(th) {
    text-align: left;
    vertical-align: top;
    padding: 0.25rem 0.75rem 0.25rem 0;
    border-bottom: 1px solid var(--cds-ui-03);
  }

  .text :global(img) {
    max-width: 100%;
    border: 1px solid var(--cds-ui-03);
  }

  @media (max-width: 50rem) {
    .columns {
      grid-template-columns: minmax(0, 1fr);
    }

    nav {
      position: static;
      max-height: 12rem;
    }
  }
</style>
