<script lang="ts">
  // What comes in and is told by itself: folders that are watched, and addresses that hear how recordings stand.
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
  import WatchedFolder from '../components/WatchedFolder.svelte';
  import { Acting } from '../lib/acting.svelte';
  import type { Webhook } from '../lib/api';
  import { counted, date } from '../lib/format';
  import * as server from '../lib/server/outside';
  import * as productions from '../lib/server/productions';

  const acting = new Acting();
  const query = createQuery(() => server.outside());
  const all = createQuery(() => productions.all());
  const choices = $derived((all.data ?? []).map(({ id, name }) => [id, name] as const));

  let watching: HTMLDialogElement | undefined = $state();
  let adding: HTMLDialogElement | undefined = $state();
  let sure: HTMLDialogElement | undefined = $state();
  let path = $state('');
  let results = $state('');
  let conform = $state(true);
  let production = $state('');
  let url = $state('');
  let secret = $state('');
  /** What is to end, once that was asked. */
  let ending = $state<{ what: string; meaning: string; act: string; end: () => Promise<unknown> }>();
  const open = $derived(watching?.open || adding?.open);

  function askForFolder() {
    path = results = acting.problem = '';
    conform = true;
    production = choices[0]?.[0] ?? '';
    watching?.showModal();
  }
  function askForAddress() {
    url = production = acting.problem = '';
    adding?.showModal();
  }
  async function watch() {
    await acting.attempt(() =>
      server.watch({ path, production_id: production, conform, results: conform ? results : '' }),
    );
    if (!acting.problem) watching?.close();
  }
  async function add() {
    await acting.attempt(async () => (secret = (await server.addWebhook(url, production || null)).secret));
    if (!acting.problem) adding?.close();
  }
  function ask(what: typeof ending) {
    ending = what;
    sure?.showModal();
  }
  const fares = ({ waiting, arrived, arrived_at, answer, problem }: Webhook) => {
    if (problem) return `Told nothing any more. ${problem}`;
    const last = arrived_at ? `${counted(arrived, 'message')} arrived, the last ${date(arrived_at)}.` : '';
    const waits = waiting
      ? `${counted(waiting, 'message')} wait${waiting === 1 ? 's' : ''}${answer && `: ${answer}`}.`
      : '';
    return [last, waits].filter(Boolean).join(' ') || 'Nothing to tell yet.';
  };
</script>

<svelte:head><title>Folders and webhooks · Ispettore</title></svelte:head>
<main>
  <ScreenHead title="Folders and webhooks">
    {#snippet way()}<a href="#/settings">Settings</a>{/snippet}
    {#snippet told()}What comes in by itself, and who hears how recordings stand.{/snippet}
    {#snippet acts()}
      <Button onclick={askForAddress}>Add a webhook…</Button>
      <Button strong disabled={!choices.length} onclick={askForFolder}>Watch a folder…</Button>
    {/snippet}
  </ScreenHead>
  {#if !open}<Problem {acting} />{/if}
  <Problem {query} />
  {#if query.data}
    <section aria-label="Watched folders">
      <h2>Watched folders</h2>
      {#each query.data.folders as folder (folder.id)}
        <WatchedFolder
          {folder}
          onstop={() =>
            ask({
              what: `Stop watching ${folder.path}`,
              meaning: 'Nothing comes in from it any more. The files in it, the recordings and the results stay.',
              act: 'Stop watching',
              end: () => server.stopWatching(folder.id),
            })}
        />
      {:else}
        <p class="soft">
          None. Have your recording program save into a folder that is watched: each file comes in when it is whole, and
          is measured.{#if !choices.length}
            Create a production first.{/if}
        </p>
      {/each}
    </section>
    <section aria-label="Webhooks">
      <h2>Webhooks</h2>
      {#if query.data.webhooks.length}
        <ListTable caption="Webhooks">
          <thead>
            <tr
              ><th scope="col">Address</th><th scope="col">Told of</th><th scope="col">Messages</th><th scope="col"
                ><span class="visually-hidden">What can be done</span></th
              ></tr
            >
          </thead>
          <tbody>
            {#each query.data.webhooks as hook (hook.id)}
              <tr data-url={hook.url}>
                <th scope="row"><code>{hook.url}</code></th>
                <td>{hook.production_name || 'every production'}</td>
                <td class:wrong={hook.problem}>{fares(hook)}</td>
                <td
                  ><span class="links"
                    ><LinkButton
                      label={`Try now: ${hook.url}`}
                      onclick={() => void acting.attempt(() => server.tryWebhook(hook.id))}>Try now</LinkButton
                    ><LinkButton
                      label={`Remove ${hook.url}`}
                      onclick={() =>
                        ask({
                          what: 'Remove this webhook',
                          meaning: `${hook.url} is told nothing any more. What it was not told yet is let go.`,
                          act: 'Remove',
                          end: () => server.removeWebhook(hook.id),
                        })}>Remove…</LinkButton
                    ></span
                  ></td
                >
              </tr>
            {/each}
          </tbody>
        </ListTable>
      {:else}
        <p class="soft">
          None. An address of a program of yours is sent a signed message whenever the status of a recording changes.
        </p>
      {/if}
    </section>
  {/if}
  <Question
    title="Watch a folder"
    meaning="A folder on the machine that Ispettore runs on. Files in it come in, and whatever lands there later; half-written files wait until they are whole."
    act="Watch"
    bind:element={watching}
    disabled={!path.trim() || !production}
    problem={acting.problem}
    onact={watch}
  >
    <div class="fields">
      <Labelled label="Folder, by its whole path"
        ><input bind:value={path} maxlength="4096" autocomplete="off" spellcheck="false" /></Labelled
      >
      <Choice label="Production" value={production} options={choices} onchange={(to) => (production = to)} />
      <label class="check"><input type="checkbox" bind:checked={conform} /> Conform each once it is measured</label>
      {#if conform}
        <Labelled label="Folder for results, or empty"
          ><input bind:value={results} maxlength="4096" autocomplete="off" spellcheck="false" /></Labelled
        >
      {/if}
    </div>
  </Question>
  <Question
    title="Add a webhook"
    meaning="Messages are signed with a secret that you get next, and tried again for hours where nobody answers."
    act="Add"
    bind:element={adding}
    disabled={!url.trim()}
    problem={acting.problem}
    onact={add}
  >
    <div class="fields">
      <Labelled label="Address"
        ><input
          bind:value={url}
          maxlength="2048"
          placeholder="https://"
          autocomplete="off"
          spellcheck="false"
        /></Labelled
      >
      <Choice
        label="Tell it of"
        value={production}
        options={[['', 'every production'], ...choices]}
        onchange={(to) => (production = to)}
      />
    </div>
  </Question>
  <Question
    title={ending?.what ?? ''}
    meaning={ending?.meaning ?? ''}
    act={ending?.act ?? ''}
    bind:element={sure}
    onact={async () => {
      const asked = ending;
      sure?.close();
      if (asked) await acting.attempt(asked.end);
    }}
  />
  <ShownOnce
    title="Secret"
    {secret}
    meaning="Give it to the program that receives the messages: with it, it can tell that they are yours. It is not shown again."
    onclose={() => (secret = '')}
  />
</main>

<style>
  main {
    padding: var(--space-6) var(--space-7) var(--space-8);
  }
  section {
    margin-top: var(--space-6);
  }
  h2 {
    margin-bottom: var(--space-3);
  }
  .fields {
    display: grid;
    gap: var(--space-5);
  }
  .check,
  .links {
    display: flex;
    gap: var(--space-3) var(--space-5);
    align-items: center;
  }
  code {
    font-family: var(--figures);
    font-size: var(--type-small);
    overflow-wrap: anywhere;
  }
  .wrong {
    color: var(--outside);
  }
  .soft {
    color: var(--soft);
    font-size: var(--type-plain);
  }
</style>
