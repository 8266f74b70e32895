<script lang="ts">
  // What new work begins with, where everything lies, and how this browser behaves.
  import { createQuery } from '@tanstack/svelte-query';
  import { getContext } from 'svelte';
  import BoundsFields from '../components/BoundsFields.svelte';
  import Choice from '../components/Choice.svelte';
  import Labelled from '../components/Labelled.svelte';
  import LinkButton from '../components/LinkButton.svelte';
  import ListTable from '../components/ListTable.svelte';
  import Problem from '../components/Problem.svelte';
  import RadioRow from '../components/RadioRow.svelte';
  import ScreenHead from '../components/ScreenHead.svelte';
  import SingleKeys from '../components/SingleKeys.svelte';
  import { Acting } from '../lib/acting.svelte';
  import type { AccessView, Defaults, Preference } from '../lib/api';
  import { STANDARD } from '../lib/defaults';
  import { counted, size } from '../lib/format';
  import { CHOICES, theme } from '../lib/theme.svelte';
  import type { Shortcuts } from '../lib/shortcuts.svelte';
  import * as server from '../lib/server/access';
  import * as certificates from '../lib/server/certificates';
  import * as installation from '../lib/server/installation';
  import * as specifications from '../lib/server/specifications';

  const acting = new Acting();
  const shortcuts = getContext<Shortcuts>('shortcuts');
  const query = createQuery(() => installation.settings());
  const choices = createQuery(() => specifications.all());
  const keys = createQuery(() => certificates.keys());
  const own = $derived(keys.data?.keys.find((key) => key.role === 'own'));
  const trusted = $derived(keys.data?.keys.filter((key) => key.role === 'trusted').length ?? 0);
  const access = createQuery(() => server.access());
  const ACCESS: Record<AccessView['access'], string> = {
    open: 'Everybody who reaches this address does everything, without signing in.',
    start: 'Whoever opens the address that the start printed does everything; others sign in.',
    accounts: 'People sign in.',
  };
  let saved = $state('');
  const change = (what: string, body: Partial<Defaults>) =>
    acting.attempt(async () => {
      saved = '';
      await installation.changeDefaults(body);
      saved = `${what} saved.`;
    });
  const PLANS: readonly (readonly [Preference, string])[] = [
    ['balanced', 'Balanced'],
    ['light', 'Light'],
    ['even', 'Even'],
  ];
</script>

<svelte:head><title>Settings · Ispettore</title></svelte:head>
<main>
  <ScreenHead title="Settings">
    {#snippet told()}Changes are saved at once and apply to what is made from now on.{/snippet}
    {#snippet acts()}<span class="saved" role="status">{saved}</span>{/snippet}
  </ScreenHead>
  <Problem {acting} />
  <Problem {query} />
  {#if query.data}
    {@const { defaults, places } = query.data}
    <section aria-label="New productions">
      <h2>New productions</h2>
      <div class="fields">
        <Labelled label="Your name, shown in certificates">
          <input
            class="name"
            value={defaults.name}
            maxlength="200"
            autocomplete="name"
            onchange={(event) => change('Name', { name: event.currentTarget.value })}
          />
        </Labelled>
        <Choice
          label="Specification"
          value={defaults.specification_id}
          options={(choices.data ?? []).map(({ id, name }) => [id, name])}
          onchange={(specification_id) => change('Specification', { specification_id })}
        />
      </div>
      <p class="soft">
        A production keeps its own name and specification: change them in its inspection sheet and under Deliver.
      </p>
    </section>
    <section aria-label="Plans">
      <h2>Plans</h2>
      <div class="fields">
        <Choice
          label="Conform with"
          value={defaults.preference}
          options={PLANS}
          onchange={(preference) => change('Plan', { preference })}
        />
      </div>
      <p class="soft">The most a plan may do to a voice. What needs more is refused, with the reason.</p>
      <div class="fields" role="group" aria-label="Bounds">
        <BoundsFields bounds={defaults.bounds} onchange={(bounds) => change('Bounds', { bounds })} />
        {#if JSON.stringify(defaults.bounds) !== JSON.stringify(STANDARD)}
          <span class="beside"
            ><LinkButton onclick={() => void change('Bounds', { bounds: STANDARD })}>Restore standard bounds</LinkButton
            ></span
          >
        {/if}
      </div>
    </section>
    <section aria-label="Keys">
      <h2>Keys</h2>
      <p>
        {#if own}Certificates are sealed with the key <code>{own.fingerprint}</code>.{/if}
        {trusted ? `${counted(trusted, 'key')} of others trusted.` : 'No keys of others are trusted.'}
        <a href="#/certificates/keys">Show keys</a>
      </p>
    </section>
    <section aria-label="People">
      <h2>People</h2>
      <p>
        {ACCESS[access.data?.access ?? 'start']}
        <a href="#/people">Show people</a> · <a href="#/trail">Show the trail</a> · <a href="#/account">Your access</a>
        · <a href="#/operation">Show operation</a>
      </p>
    </section>
    <section aria-label="Folders and webhooks">
      <h2>Folders and webhooks</h2>
      <p>
        Files that land in a watched folder come in by themselves; webhooks tell other programs how recordings stand.
        <a href="#/outside">Show folders and webhooks</a>
      </p>
    </section>
    <section aria-label="This browser">
      <h2>This browser</h2>
      <div class="look">
        <span>Colours</span>
        <RadioRow label="Colours" value={theme.choice} options={CHOICES} onchoose={(to) => theme.choose(to)} />
      </div>
      <SingleKeys {shortcuts} />
    </section>
    <section aria-label="Data on disk">
      <h2>Data on disk</h2>
      <ListTable caption="Data on disk">
        <thead>
          <tr
            ><th scope="col">What</th><th scope="col">Where</th><th scope="col">Size</th><th scope="col">Free there</th
            ></tr
          >
        </thead>
        <tbody>
          {#each places as place (place.title)}
            <tr>
              <th scope="row">{place.title}</th>
              <td class="where">{place.where}</td>
              <td class="figure">{place.size_bytes === null ? 'unknown' : size(place.size_bytes)}</td>
              <td class="figure">{place.free_bytes === null ? '' : size(place.free_bytes)}</td>
            </tr>
          {/each}
        </tbody>
      </ListTable>
      <p class="soft">
        To make room, open a production’s inspection sheet and choose Disk use: masters that no certificate rests on can
        be cleared. Places are set in the environment when Ispettore starts.
      </p>
    </section>
    <p class="soft">{query.data.software}, methods version {query.data.methods_version}.</p>
  {/if}
</main>

<style>
  main {
    padding: var(--space-6) var(--space-7) var(--space-8);
    max-width: 1100px;
  }
  section {
    margin-top: var(--space-7);
  }
  .look {
    display: flex;
    gap: var(--space-6);
    align-items: baseline;
    margin-bottom: var(--space-4);
  }
  h2 {
    margin-bottom: var(--space-3);
  }
  section > p {
    margin-top: var(--space-3);
  }
  .fields {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-5) var(--space-6);
    align-items: end;
    margin: var(--space-4) 0;
  }
  .name {
    width: 260px;
  }
  .soft,
  .saved {
    color: var(--soft);
    font-size: var(--type-plain);
  }
  .beside {
    padding-bottom: var(--space-2);
  }
  .where {
    font-family: var(--figures);
    font-size: var(--type-small);
    overflow-wrap: anywhere;
  }
  .figure,
  code {
    font-family: var(--figures);
    font-size: var(--type-small);
  }
  .figure {
    white-space: nowrap;
  }
  code {
    overflow-wrap: anywhere;
  }
</style>
