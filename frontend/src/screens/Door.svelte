<script lang="ts">
  // The way in: signing in, setting the password that an invitation is for, or where to find the address that lets one in.
  import { createQuery } from '@tanstack/svelte-query';
  import { replace } from 'svelte-spa-router';
  import Brand from '../components/Brand.svelte';
  import Button from '../components/Button.svelte';
  import Labelled from '../components/Labelled.svelte';
  import Problem from '../components/Problem.svelte';
  import { Acting } from '../lib/acting.svelte';
  import type { AccessView } from '../lib/api';
  import { client } from '../lib/client';
  import { able } from '../lib/passkeys';
  import { named } from '../lib/roles';
  import * as server from '../lib/server/access';
  let { access, invited }: { access: AccessView; invited?: string } = $props();

  const acting = new Acting();
  // What was shown to whoever was in before stays with nobody.
  client.removeQueries({ predicate: ({ queryKey }) => queryKey[0] !== 'access' && queryKey[0] !== 'invitation' });
  const invitation = createQuery(() => ({ ...server.invitation(invited ?? ''), enabled: Boolean(invited) }));
  let name = $state('');
  let password = $state('');
  let again = $state('');
  const differs = $derived(Boolean(again) && password !== again);
  const title = $derived(invited ? 'Set your password' : 'Sign in');

  async function enter(way: () => Promise<unknown>) {
    const entered = await acting.attempt(async () => {
      await way();
      return true;
    });
    if (!entered) return;
    if (invited) await replace('/');
    await client.invalidateQueries();
  }
  const signIn = () => enter(() => server.signIn(name, password));
  const join = () => enter(() => server.join(invited ?? '', password));
</script>

<svelte:head><title>{title} · Ispettore</title></svelte:head>
<main>
  <p class="brand"><Brand /></p>
  <h1>{title}</h1>
  {#if invited}
    {#if invitation.data}
      <p>
        For <b>{invitation.data.name}</b>, sign-in name <b>{invitation.data.sign_in}</b>. {invitation.data.roles
          .length > 1
          ? 'Roles'
          : 'Role'}: {named(invitation.data.roles).toLowerCase()}.
      </p>
      <form
        onsubmit={(event) => {
          event.preventDefault();
          void join();
        }}
      >
        <input
          class="visually-hidden"
          value={invitation.data.sign_in}
          autocomplete="username"
          readonly
          tabindex="-1"
          aria-hidden="true"
        />
        <Labelled label="Password">
          <input type="password" bind:value={password} autocomplete="new-password" aria-describedby="rule" required />
        </Labelled>
        <p class="soft" id="rule">At least 12 characters. Several words in a row are easy to keep and hard to guess.</p>
        <Labelled label="The same again">
          <input type="password" bind:value={again} autocomplete="new-password" aria-invalid={differs} required />
        </Labelled>
        {#if differs}<p class="wrong">These differ.</p>{/if}
        <Problem {acting} />
        <Button strong submit disabled={!password || password !== again}>Set password and sign in</Button>
      </form>
    {:else}
      <Problem query={invitation} />
    {/if}
  {:else}
    {#if access.access === 'start'}
      <p>
        This browser is not known here yet. Open the address that Ispettore printed when it started: the part after
        <code>/start/</code> lets you in, and the browser remembers it.
      </p>
      <p class="soft">Or sign in, if somebody made an account for you.</p>
    {/if}
    <form
      onsubmit={(event) => {
        event.preventDefault();
        void signIn();
      }}
    >
      <Labelled label="Sign-in name">
        <input bind:value={name} autocomplete="username webauthn" autocapitalize="none" spellcheck="false" required />
      </Labelled>
      <Labelled label="Password">
        <input type="password" bind:value={password} autocomplete="current-password" required />
      </Labelled>
      <Problem {acting} />
      <div class="ways">
        <Button strong submit disabled={!name.trim() || !password}>Sign in</Button>
        {#if access.passkeys && able()}
          <Button onclick={() => enter(server.signInWithPasskey)}>Sign in with a passkey</Button>
        {/if}
      </div>
    </form>
    <p class="soft">No password, or lost it? An administrator can send you a link to set one.</p>
  {/if}
</main>

<style>
  main {
    max-width: 460px;
    margin: 0 auto;
    padding: 12vh var(--space-6) var(--space-8);
    display: grid;
    gap: var(--space-5);
  }
  form {
    display: grid;
    gap: var(--space-5);
    justify-items: start;
    margin: var(--space-4) 0;
  }
  form > :global(label) {
    width: 100%;
  }
  .ways {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-5);
  }
  .soft {
    font-size: var(--type-plain);
  }
  .wrong {
    color: var(--outside);
    font-size: var(--type-plain);
  }
  code {
    font-family: var(--figures);
    font-size: var(--type-small);
  }
</style>
