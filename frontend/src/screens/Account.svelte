<script lang="ts">
  // What somebody gets in by: password, passkeys, browsers, tokens for scripts.
  import { createQuery } from '@tanstack/svelte-query';
  import Button from '../components/Button.svelte';
  import Choice from '../components/Choice.svelte';
  import Labelled from '../components/Labelled.svelte';
  import LinkButton from '../components/LinkButton.svelte';
  import ListTable from '../components/ListTable.svelte';
  import Problem from '../components/Problem.svelte';
  import Question from '../components/Question.svelte';
  import ScreenHead from '../components/ScreenHead.svelte';
  import ShownOnce from '../components/ShownOnce.svelte';
  import { Acting } from '../lib/acting.svelte';
  import { client } from '../lib/client';
  import { date, day } from '../lib/format';
  import { able } from '../lib/passkeys';
  import { named } from '../lib/roles';
  import * as server from '../lib/server/access';

  const acting = new Acting();
  const access = createQuery(() => server.access());
  const query = createQuery(() => server.account());
  const me = $derived(access.data?.me);
  let changing: HTMLDialogElement | undefined = $state();
  let naming: HTMLDialogElement | undefined = $state();
  let making: HTMLDialogElement | undefined = $state();
  let old = $state('');
  let fresh = $state('');
  let called = $state('');
  let may = $state<'read' | 'work' | 'certify'>('work');
  let days = $state('90');
  let secret = $state('');
  let saved = $state('');

  const asked = (element: HTMLDialogElement | undefined) => {
    acting.problem = '';
    element?.showModal();
  };
  async function done(element: HTMLDialogElement | undefined, ask: () => Promise<unknown>, said = '') {
    saved = '';
    await acting.attempt(ask);
    if (acting.problem) return;
    element?.close();
    saved = said;
  }
  const change = () =>
    done(changing, () => server.changePassword(old, fresh), 'Password changed; other browsers are signed out.');
  const addPasskey = () => done(naming, () => server.addPasskey(called), 'Passkey added.');
  const makeToken = () =>
    done(making, async () => {
      const rights = may === 'certify' ? (['work', 'certify'] as const) : ([may] as const);
      secret = (await server.makeToken(called, [...rights], Number(days))).secret;
    });
  const signOut = () =>
    acting.attempt(async () => {
      await server.signOut();
      await client.invalidateQueries();
    });
  const MAY: readonly (readonly ['read' | 'work' | 'certify', string])[] = [
    ['read', 'Read only'],
    ['work', 'Read and work'],
    ['certify', 'Read, work and certify'],
  ];
  const DAYS = ['7', '30', '90', '365'].map((count) => [count, `${count} days`] as const);
</script>

<svelte:head><title>Account · Ispettore</title></svelte:head>
<main>
  <ScreenHead title={me?.name || 'Account'}>
    {#snippet told()}
      {#if me?.sign_in}Signed in as {me.sign_in}: {named(me.roles).toLowerCase()}.{:else if access.data}You use this
        machine’s own access: there is no account, and everything is allowed.{/if}
      <span role="status">{saved}</span>
    {/snippet}
    {#snippet acts()}
      {#if access.data?.access !== 'open'}<Button onclick={signOut}>Sign out</Button>{/if}
    {/snippet}
  </ScreenHead>
  {#if !changing?.open && !naming?.open && !making?.open}<Problem {acting} />{/if}
  <Problem {query} />
  {#if query.data}
    {#if me?.sign_in}
      <section aria-label="Password">
        <h2>Password</h2>
        <Button onclick={() => asked(changing)}>Change password…</Button>
      </section>
      <section aria-label="Passkeys">
        <h2>Passkeys</h2>
        <p class="soft">Sign in with your fingerprint, face or a key instead of a password.</p>
        {#if query.data.passkeys.length}
          <ListTable caption="Passkeys">
            <thead>
              <tr
                ><th scope="col">Name</th><th scope="col">Added</th><th scope="col">Last used</th><th scope="col"
                  ><span class="visually-hidden">Remove</span></th
                ></tr
              >
            </thead>
            <tbody>
              {#each query.data.passkeys as one (one.id)}
                <tr>
                  <th scope="row">{one.name}</th>
                  <td>{date(one.created_at)}</td>
                  <td>{one.used_at ? date(one.used_at) : 'never'}</td>
                  <td
                    ><LinkButton
                      label={`Remove ${one.name}`}
                      onclick={() => done(undefined, () => server.removePasskey(one.id))}>Remove</LinkButton
                    ></td
                  >
                </tr>
              {/each}
            </tbody>
          </ListTable>
        {/if}
        {#if access.data?.passkeys && able()}
          <p class="act"><Button onclick={() => ((called = ''), asked(naming))}>Add a passkey…</Button></p>
        {:else}
          <p class="soft">
            Passkeys need an address with a name; this one has numbers only, or the browser knows none.
          </p>
        {/if}
      </section>
    {/if}
    <section aria-label="Browsers">
      <h2>Browsers</h2>
      <ListTable caption="Browsers that are let in">
        <thead>
          <tr
            ><th scope="col">Browser</th><th scope="col">From</th><th scope="col">Since</th><th scope="col"
              >Last used</th
            ><th scope="col"><span class="visually-hidden">Sign out</span></th></tr
          >
        </thead>
        <tbody>
          {#each query.data.sessions as one (one.id)}
            <tr>
              <th scope="row">{one.this ? 'This browser' : 'Another browser'}<span class="agent">{one.agent}</span></th>
              <td class="figure">{one.address}</td>
              <td>{date(one.began_at)}</td>
              <td>{date(one.seen_at)}</td>
              <td
                >{#if !one.this}<LinkButton
                    onclick={() => done(undefined, () => server.endSession(one.id), 'Signed out there.')}
                    >Sign out</LinkButton
                  >{/if}</td
              >
            </tr>
          {:else}
            <tr><td colspan="5">Everybody who reaches this address is let in.</td></tr>
          {/each}
        </tbody>
      </ListTable>
    </section>
    <section aria-label="Tokens">
      <h2>Tokens</h2>
      <p class="soft">
        A script shows a token instead of signing in (<code>Authorization: Bearer …</code>). It can do what you can, and
        no more than you give it; none can administer.
      </p>
      {#if query.data.tokens.length}
        <ListTable caption="Tokens">
          <thead>
            <tr
              ><th scope="col">For</th><th scope="col">May</th><th scope="col">Until</th><th scope="col">Last used</th
              ><th scope="col"><span class="visually-hidden">End</span></th></tr
            >
          </thead>
          <tbody>
            {#each query.data.tokens as one (one.id)}
              <tr>
                <th scope="row">{one.name}</th>
                <td>{one.rights.join(', ')}</td>
                <td>{day(one.expires_at)}</td>
                <td>{one.used_at ? date(one.used_at) : 'never'}</td>
                <td
                  ><LinkButton
                    label={`End ${one.name}`}
                    onclick={() => done(undefined, () => server.endToken(one.id), 'Token ended.')}>End</LinkButton
                  ></td
                >
              </tr>
            {/each}
          </tbody>
        </ListTable>
      {/if}
      <p class="act"><Button onclick={() => ((called = ''), asked(making))}>Make a token…</Button></p>
    </section>
  {/if}
  <Question
    title="Change password"
    meaning="At least 12 characters. Your other browsers are signed out."
    act="Change password"
    bind:element={changing}
    disabled={!fresh}
    problem={acting.problem}
    onact={change}
    onclose={() => (old = fresh = '')}
  >
    <div class="fields">
      <Labelled label="Password so far"
        ><input type="password" bind:value={old} autocomplete="current-password" /></Labelled
      >
      <Labelled label="New password"><input type="password" bind:value={fresh} autocomplete="new-password" /></Labelled>
    </div>
  </Question>
  <Question
    title="Add a passkey"
    meaning="Your browser then asks you to make one, on this device or on a key."
    act="Add passkey"
    bind:element={naming}
    disabled={!called.trim()}
    problem={acting.problem}
    onact={addPasskey}
  >
    <Labelled label="Name of the passkey"><input bind:value={called} maxlength="200" /></Labelled>
  </Question>
  <Question
    title="Make a token"
    meaning="It is shown once; keep it where only the script can read it."
    act="Make token"
    bind:element={making}
    disabled={!called.trim()}
    problem={acting.problem}
    onact={makeToken}
  >
    <div class="fields">
      <Labelled label="What it is for"><input bind:value={called} maxlength="200" /></Labelled>
      <Choice label="It may" value={may} options={MAY} onchange={(to) => (may = to)} />
      <Choice label="It ends after" value={days} options={DAYS} onchange={(to) => (days = to)} />
    </div>
  </Question>
  <ShownOnce title="Token" {secret} meaning="This is the only time that it is shown." onclose={() => (secret = '')} />
</main>

<style>
  main {
    padding: var(--space-6) var(--space-7) var(--space-8);
    max-width: 1100px;
  }
  section {
    margin-top: var(--space-7);
  }
  h2 {
    margin-bottom: var(--space-3);
  }
  .soft {
    font-size: var(--type-plain);
    margin-bottom: var(--space-4);
  }
  .act {
    margin-top: var(--space-4);
  }
  .agent {
    display: block;
    color: var(--soft);
    font-size: var(--type-fine);
    max-width: 420px;
    overflow-wrap: anywhere;
  }
  .figure,
  code {
    font-family: var(--figures);
    font-size: var(--type-small);
  }
  .fields {
    display: grid;
    gap: var(--space-5);
  }
</style>
