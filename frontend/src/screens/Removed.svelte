<script lang="ts">
  // What was removed, to be restored, or to be erased for good.
  import { createQuery } from '@tanstack/svelte-query';
  import Button from '../components/Button.svelte';
  import LinkButton from '../components/LinkButton.svelte';
  import ListTable from '../components/ListTable.svelte';
  import Problem from '../components/Problem.svelte';
  import Question from '../components/Question.svelte';
  import ScreenHead from '../components/ScreenHead.svelte';
  import { Acting } from '../lib/acting.svelte';
  import type { Removed } from '../lib/api';
  import { counted, date, size } from '../lib/format';
  import * as productions from '../lib/server/productions';
  import * as recordings from '../lib/server/recordings';
  import * as specifications from '../lib/server/specifications';
  import * as treatments from '../lib/server/treatments';

  const KINDS = {
    production: 'Production',
    recording: 'Recording',
    specification: 'Specification',
    treatment: 'Treatment',
  } as const;
  const LONG_AGO_MS = 30 * 24 * 3_600_000;
  type WithFiles = Removed & { kind: 'production' | 'recording' };
  const removed = createQuery(() => productions.removed());
  const acting = new Acting();
  let asked = $state.raw<WithFiles[]>([]);
  let question: HTMLDialogElement | undefined = $state();
  let said = $state('');

  const hasFiles = (one: Removed): one is WithFiles => one.kind === 'production' || one.kind === 'recording';
  const bytes = (of: Removed[]) => of.reduce((sum, one) => sum + one.size_bytes, 0);
  const erasable = $derived((removed.data ?? []).filter(hasFiles));
  const old = $derived(erasable.filter((one) => Date.now() - Date.parse(one.removed_at) > LONG_AGO_MS));
  const back = ({ kind, id }: Removed): Promise<unknown> => {
    if (kind === 'production') return productions.restore(id);
    if (kind === 'recording') return recordings.restore([id]);
    return kind === 'specification' ? specifications.restore(id) : treatments.restore(id);
  };
  const what = $derived.by(() => {
    if (asked.length !== 1) return 'These recordings';
    return asked[0]?.kind === 'production' ? 'All its recordings' : 'Its sound and its earlier versions';
  });
  const restore = (one: Removed) => acting.attempt(() => back(one));
  function ask(of: WithFiles[]) {
    asked = of;
    question?.showModal();
  }
  async function erase() {
    const items = asked.map(({ kind, id }) => ({ kind, id }));
    question?.close();
    said = 'Erasing…';
    const gone = await acting.attempt(() => productions.erase(items));
    said = gone ? `${counted(gone.items, 'item')} erased; ${size(gone.size_bytes)} came free.` : '';
  }
</script>

<svelte:head><title>Removed · Ispettore</title></svelte:head>
<main>
  <ScreenHead title="Removed">
    {#snippet way()}<a href="#/">Productions</a>{/snippet}
    {#snippet told()}
      {#if removed.data?.length}{counted(removed.data.length, 'item')}, {size(bytes(erasable))} on disk. Everything is kept
        until you erase it.{:else if removed.data}Nothing was removed.{/if}
    {/snippet}
    {#snippet acts()}
      {#if old.length}
        <Button onclick={() => ask(old)}
          >Erase {counted(old.length, 'item')} removed over 30 days ago, {size(bytes(old))}…</Button
        >
      {/if}
    {/snippet}
  </ScreenHead>
  <Problem {acting} />
  <p class="said" role="status">{said}</p>
  {#if removed.isError}
    <Problem query={removed} />
  {:else if removed.data?.length}
    <ListTable caption="Removed">
      <thead>
        <tr
          ><th scope="col">Name</th><th scope="col">Kind</th><th scope="col">From</th><th scope="col">Removed</th><th
            scope="col"
            class="figure">On disk</th
          ><th scope="col"><span class="visually-hidden">Restore or erase</span></th></tr
        >
      </thead>
      <tbody>
        {#each removed.data as one (one.kind + one.id)}
          <tr data-removed={one.name}>
            <th scope="row">{one.name}</th>
            <td>{KINDS[one.kind]}</td>
            <td>{one.production}</td>
            <td>{date(one.removed_at)}</td>
            <td class="figure">{hasFiles(one) ? size(one.size_bytes) : ''}</td>
            <td>
              <span class="acts">
                <Button label={`Restore ${one.name}`} onclick={() => restore(one)}>Restore</Button>
                {#if hasFiles(one)}
                  <LinkButton label={`Erase ${one.name}`} onclick={() => ask([one])}>Erase…</LinkButton>
                {/if}
              </span>
            </td>
          </tr>
        {/each}
      </tbody>
    </ListTable>
  {/if}
</main>
<Question
  bind:element={question}
  title={`Erase ${asked.length === 1 ? asked[0]?.name : counted(asked.length, 'item')} for good`}
  meaning={`${what}, with retakes and every file made, leave the disk: ${size(bytes(asked))}. None of it can be played, delivered or restored afterwards. Readings, the record and certificates stay.`}
  act="Erase for good"
  onact={erase}
/>

<style>
  main {
    padding: var(--space-6) var(--space-7) var(--space-8);
  }
  main :global(tbody :is(th, td)) {
    vertical-align: baseline;
  }
  .said {
    font-size: var(--type-plain);
    margin: var(--space-3) 0;
    min-height: 1.5em;
  }
  .figure {
    text-align: right;
    white-space: nowrap;
  }
  .acts {
    display: flex;
    gap: var(--space-5);
    align-items: baseline;
  }
</style>
