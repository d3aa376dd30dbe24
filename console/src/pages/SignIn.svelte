<script lang="ts">
  import { Button, Form, InlineNotification, PasswordInput } from 'carbon-components-svelte';
  import ArrowRight from 'carbon-icons-svelte/lib/ArrowRight.svelte';
  import type { SignInWays } from '../api/types';
  import { Refused, session, Watched } from '../lib/api.svelte';

  let token = $state('');
  let busy = $state(false);
  let wrong: string | undefined = $state(undefined);

  const ways = new Watched<SignInWays>(() => '/sign-in', undefined);
  // The provider sends the browser back with the reason.
  const refused = new URLSearchParams(location.search).get('sign-in');

  async function enter(event: Event) {
    event.preventDefault();
    busy = true;
    wrong = undefined;
    try {
      await session.signIn(token);
    } catch (error) {
      wrong = error instanceof Refused ? `${error.title}: ${error.detail}` : String(error);
    }
    busy = false;
  }
</script>

<main class="panel">
  <h1>Sign in</h1>
  <p class="dim">
    With the operator token that the service made at its first start. The demo prints it; it also stands in
    <code>.kanzlei/client.toml</code>.
  </p>
  <Form on:submit={enter}>
    <PasswordInput id="token" labelText="Operator token" bind:value={token} autocomplete="current-password" disabled={busy} />
    {#if wrong}
      <InlineNotification kind="error" lowContrast hideCloseButton title="Not signed in." subtitle={wrong} />
    {/if}
    <Button type="submit" icon={ArrowRight} disabled={busy || token === ''}>Sign in</Button>
  </Form>
  {#if ways.value?.openid}
    <p class="or">or <a id="openid" href={ways.value.openid} target="_self">sign in at {ways.value.provider}</a></p>
  {/if}
  {#if refused && !wrong}<InlineNotification kind="error" lowContrast hideCloseButton title="Not signed in." subtitle={refused} />{/if}
</main>

<style>
  main {
    max-width: 30rem;
    margin: 4rem auto;
    padding: 1.5rem;
  }

  p {
    margin: 0.5rem 0 1.5rem;
    font-size: 0.875rem;
  }

  .or {
    margin-bottom: 0;
  }

  main :global(.bx--btn--primary) {
    margin-top: 1.5rem;
  }
</style>
