<script lang="ts">
  // What was removed, to be restored.
  import { createQuery } from '@tanstack/svelte-query';
  import Button from '../components/Button.svelte';
  import ListTable from '../components/ListTable.svelte';
  import ScreenHead from '../components/ScreenHead.svelte';
  import { Acting } from '../lib/acting.svelte';
  import type { Removed } from '../lib/api';
  import { counted, date } from '../lib/format';
  import * as productions from '../lib/server/productions';
  import * as recordings from '../lib/server/recordings';
  import * as specifications from '../lib/server/specifications';
  import * as treatments from '../lib/server/treatments';
  import Problem from '../components/Problem.svelte';

  const KINDS = {
    production: 'Production',
    recording: 'Recording',
    specification: 'Specification',
    treatment: 'Treatment',
  } as const;
  const removed = createQuery(() => productions.removed());
  const acting = new Acting();
  const back = ({ kind, id }: Removed): Promise<unknown> => {
    if (kind === 'production') return productions.restore(id);
    if (kind === 'recording') return recordings.restore([id]);
    return kind === 'specification' ? specifications.restore(id) : treatments.restore(id);
  };
  const restore = (one: Removed) => acting.attempt(() => back(one));
</script>

<svelte:head><title>Removed · Ispettore</title></svelte:head>
<main>
  <ScreenHead title="Removed">
    {#snippet way()}<a href="#/">Productions</a>{/snippet}
    {#snippet told()}
      {#if removed.data?.length}{counted(removed.data.length, 'item')}. Files, measurements and certificates are kept.{:else if removed.data}Nothing
        was removed.{/if}
    {/snippet}
    {#snippet acts()}{/snippet}
  </ScreenHead>
  <Problem {acting} />
  {#if removed.isError}
    <Problem query={removed} />
  {:else if removed.data?.length}
    <ListTable caption="Removed">
      <thead>
        <tr
          ><th scope="col">Name</th><th scope="col">Kind</th><th scope="col">From</th><th scope="col">Removed</th><th
            scope="col"><span class="visually-hidden">Restore</span></th
          ></tr
        >
      </thead>
      <tbody>
        {#each removed.data as one (one.kind + one.id)}
          <tr data-removed={one.name}>
            <th scope="row">{one.name}</th>
            <td>{KINDS[one.kind]}</td>
            <td>{one.production}</td>
            <td>{date(one.removed_at)}</td>
            <td><Button label={`Restore ${one.name}`} onclick={() => restore(one)}>Restore</Button></td>
          </tr>
        {/each}
      </tbody>
    </ListTable>
  {/if}
</main>

<style>
  main {
    padding: var(--space-6) var(--space-7) var(--space-8);
  }
</style>
