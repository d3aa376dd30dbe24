<script lang="ts">
  import { Button, Loading } from 'carbon-components-svelte';
  import Activity from 'carbon-icons-svelte/lib/Activity.svelte';
  import Alarm from 'carbon-icons-svelte/lib/Alarm.svelte';
  import Application from 'carbon-icons-svelte/lib/Application.svelte';
  import Asleep from 'carbon-icons-svelte/lib/Asleep.svelte';
  import Book from 'carbon-icons-svelte/lib/Book.svelte';
  import Calendar from 'carbon-icons-svelte/lib/Calendar.svelte';
  import Catalog from 'carbon-icons-svelte/lib/Catalog.svelte';
  import Dashboard from 'carbon-icons-svelte/lib/Dashboard.svelte';
  import DataTable from 'carbon-icons-svelte/lib/DataTable.svelte';
  import Document from 'carbon-icons-svelte/lib/Document.svelte';
  import Email from 'carbon-icons-svelte/lib/Email.svelte';
  import FlowStream from 'carbon-icons-svelte/lib/FlowStream.svelte';
  import ListChecked from 'carbon-icons-svelte/lib/ListChecked.svelte';
  import Notification from 'carbon-icons-svelte/lib/Notification.svelte';
  import Password from 'carbon-icons-svelte/lib/Password.svelte';
  import Light from 'carbon-icons-svelte/lib/Light.svelte';
  import Logout from 'carbon-icons-svelte/lib/Logout.svelte';
  import SettingsAdjust from 'carbon-icons-svelte/lib/SettingsAdjust.svelte';
  import { session } from './lib/api.svelte';
  import { router } from './lib/router.svelte';
  import { theme } from './lib/theme.svelte';
  import { zone } from './lib/zone.svelte';
  import Nothing from './pages/Nothing.svelte';
  import SignIn from './pages/SignIn.svelte';
  import Restored from './parts/Restored.svelte';

  /** Pages are loaded when they are first shown. */
  const load = {
    alerts: () => import('./pages/Alerts.svelte'),
    audit: () => import('./pages/Audit.svelte'),
    deliveries: () => import('./pages/Deliveries.svelte'),
    examples: () => import('./pages/Examples.svelte'),
    coming: () => import('./pages/Coming.svelte'),
    delivery: () => import('./pages/Delivery.svelte'),
    handbook: () => import('./pages/Handbook.svelte'),
    import: () => import('./pages/Import.svelte'),
    job: () => import('./pages/Job.svelte'),
    jobs: () => import('./pages/Jobs.svelte'),
    keys: () => import('./pages/Keys.svelte'),
    lanes: () => import('./pages/Lanes.svelte'),
    new: () => import('./pages/New.svelte'),
    overview: () => import('./pages/Overview.svelte'),
    run: () => import('./pages/Run.svelte'),
    runs: () => import('./pages/Runs.svelte'),
    services: () => import('./pages/Services.svelte'),
    settings: () => import('./pages/Settings.svelte'),
    timetables: () => import('./pages/Timetables.svelte'),
    watches: () => import('./pages/Watches.svelte'),
    workflow: () => import('./pages/Workflow.svelte'),
    workflows: () => import('./pages/Workflows.svelte'),
  };

  void session.resume();

  let first = true;
  $effect(() => {
    void router.path;
    // After a navigation the keyboard goes on in the page; what the page wants focused comes later.
    if (!first) document.getElementById('main')?.focus({ preventScroll: true });
    first = false;
  });

  const pages = [
    { href: '/workflows', label: 'Workflows', icon: Document },
    { href: '/overview', label: 'Overview', icon: Dashboard },
    { href: '/runs', label: 'Runs', icon: Activity },
    { href: '/jobs', label: 'Jobs', icon: Catalog },
    { href: '/deliveries', label: 'Deliveries', icon: Email },
    { href: '/lanes', label: 'Lanes', icon: FlowStream },
    { href: '/alerts', label: 'Alerts', icon: Notification },
    { href: '/timetables', label: 'Timetables', icon: Alarm },
    { href: '/coming', label: 'To come', icon: Calendar },
    { href: '/watches', label: 'Watched tables', icon: DataTable },
    { href: '/services', label: 'Services', icon: Application },
    { href: '/keys', label: 'Keys', icon: Password },
    { href: '/settings', label: 'Settings', icon: SettingsAdjust },
    { href: '/audit', label: 'Audit', icon: ListChecked },
    { href: '/handbook', label: 'Handbook', icon: Book },
  ];
  const parts = $derived(router.path.split('/').filter(Boolean).map(decodeURIComponent));
  const area = $derived(parts[0] ?? 'workflows');
</script>

<a class="skip" href="#main" onclick={(event) => { event.preventDefault(); document.getElementById('main')?.focus(); }}>Skip to the page</a>
<header>
  <a href="/workflows" class="quiet brand">Kanzlei</a>
  <div class="row">
    <Button
      kind="ghost"
      size="field"
      icon={theme.choice === 'light' ? Asleep : Light}
      iconDescription={theme.choice === 'light' ? 'Dark' : 'Light'}
      tooltipPosition="left"
      on:click={() => theme.toggle()}
    />
    <button type="button" class="zone" title="Times are shown in {zone.name}" aria-label="Time zone {zone.name}; show {zone.other}" onclick={() => zone.toggle()}>{zone.name}</button>
    {#if session.signedIn}
      {#if session.who}<a class="quiet who" href="/audit" title="Signed in as {session.who.name}, {session.who.role}">{session.who.name} <span class="dim">{session.who.role}</span></a>{/if}
      <Button
        kind="ghost"
        size="field"
        icon={Logout}
        iconDescription="Sign out"
        tooltipPosition="left"
        on:click={() => void session.signOut()}
      />
    {/if}
  </div>
</header>

{#if session.signedIn === undefined}
  {#if session.unreachable}
    <p class="page" role="status">The service does not answer: it is stopped or starting. This page tries again by itself.</p>
  {:else}
    <Loading withOverlay={false} description="Loading" />
  {/if}
{:else if !session.signedIn}
  <SignIn />
{:else}
  <div class="frame">
    <nav aria-label="Main">
      {#each pages as page (page.href)}
        {@const Icon = page.icon}
        <a href={page.href} class:current={area === page.href.slice(1)} aria-current={area === page.href.slice(1) ? 'page' : undefined}>
          <Icon />{page.label}
        </a>
      {/each}
    </nav>
    <main id="main" tabindex="-1">
      <Restored />
      {#if area === 'workflows' && parts[1]}
        {#await load.workflow() then { default: Page }}{#key parts[1]}<Page name={parts[1]} part={parts[2] ?? ''} />{/key}{/await}
      {:else if area === 'new'}
        {#await load.new() then { default: Page }}<Page />{/await}
      {:else if area === 'workflows'}
        {#await load.workflows() then { default: Page }}<Page />{/await}
      {:else if area === 'runs' && parts[1]}
        {#await load.run() then { default: Page }}{#key parts[1]}<Page id={parts[1]} />{/key}{/await}
      {:else if area === 'runs'}
        {#await load.runs() then { default: Page }}<Page />{/await}
      {:else if area === 'jobs' && parts[1]}
        {#await load.job() then { default: Page }}{#key parts[1]}<Page id={parts[1]} />{/key}{/await}
      {:else if area === 'jobs'}
        {#await load.jobs() then { default: Page }}<Page />{/await}
      {:else if area === 'deliveries' && parts[1]}
        {#await load.delivery() then { default: Page }}{#key parts[1]}<Page id={parts[1]} />{/key}{/await}
      {:else if area === 'deliveries'}
        {#await load.deliveries() then { default: Page }}<Page />{/await}
      {:else if area === 'keys'}
        {#await load.keys() then { default: Page }}<Page />{/await}
      {:else if area === 'coming'}
        {#await load.coming() then { default: Page }}<Page />{/await}
      {:else if area === 'alerts'}
        {#await load.alerts() then { default: Page }}<Page />{/await}
      {:else if area === 'lanes'}
        {#await load.lanes() then { default: Page }}<Page />{/await}
      {:else if area === 'overview'}
        {#await load.overview() then { default: Page }}<Page />{/await}
      {:else if area === 'audit'}
        {#await load.audit() then { default: Page }}<Page />{/await}
      {:else if area === 'examples'}
        {#await load.examples() then { default: Page }}<Page />{/await}
      {:else if area === 'watches'}
        {#await load.watches() then { default: Page }}<Page />{/await}
      {:else if area === 'timetables'}
        {#await load.timetables() then { default: Page }}<Page />{/await}
      {:else if area === 'services'}
        {#await load.services() then { default: Page }}<Page name={parts[1]} />{/await}
      {:else if area === 'handbook'}
        {#await load.handbook() then { default: Page }}<Page chapter={parts[1] ?? ''} />{/await}
      {:else if area === 'import'}
        {#await load.import() then { default: Page }}<Page />{/await}
      {:else if area === 'settings'}
        {#await load.settings() then { default: Page }}<Page />{/await}
      {:else}
        <Nothing />
      {/if}
    </main>
  </div>
{/if}

<style>
  header {
    height: 3rem;
    display: flex;
    align-items: center;
    justify-content: space-between;
    padding: 0 0.5rem 0 1.125rem;
    border-bottom: 1px solid var(--cds-ui-03);
    position: sticky;
    top: 0;
    z-index: 10;
    background: var(--cds-ui-background);
  }

  .skip {
    position: absolute;
    left: 0.5rem;
    top: -4rem;
    z-index: 20;
    padding: 0.5rem 1rem;
    background: var(--cds-ui-01);
  }

  .skip:focus {
    top: 0.25rem;
  }

  .zone {
    border: 0;
    background: none;
    color: var(--cds-text-02);
    font: inherit;
    font-size: 0.75rem;
    min-height: 2rem;
    padding: 0 0.5rem;
    cursor: pointer;
  }

  main:focus {
    outline: none;
  }

  .brand {
    font-weight: 600;
    font-size: 0.875rem;
  }

  .frame {
    display: grid;
    grid-template-columns: 12rem minmax(0, 1fr);
  }

  nav {
    padding-top: 1rem;
    position: sticky;
    top: 3rem;
    align-self: start;
  }

  nav a {
    display: flex;
    gap: 1rem;
    align-items: center;
    height: 2.25rem;
    padding-left: 1rem;
    border-left: 3px solid transparent;
    color: var(--cds-text-02);
    text-decoration: none;
    font-size: 0.875rem;
    font-weight: 600;
  }

  nav a:hover {
    background: var(--cds-hover-ui);
  }

  nav a:focus-visible {
    outline: 2px solid var(--cds-focus);
    outline-offset: -2px;
  }

  nav a.current {
    background: var(--cds-ui-03);
    border-left-color: var(--cds-interactive-04);
    color: var(--cds-text-01);
  }

  @media (max-width: 50rem) {
    .frame {
      grid-template-columns: minmax(0, 1fr);
    }

    nav {
      position: static;
      display: flex;
      padding-top: 0;
      overflow-x: auto;
      min-width: 0;
    }
  }
</style>
