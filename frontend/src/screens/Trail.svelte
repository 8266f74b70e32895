<script lang="ts">
  // Who did what, when and from where; the newest first.
  import { createQuery } from '@tanstack/svelte-query';
  import Button from '../components/Button.svelte';
  import Labelled from '../components/Labelled.svelte';
  import ListTable from '../components/ListTable.svelte';
  import Problem from '../components/Problem.svelte';
  import ScreenHead from '../components/ScreenHead.svelte';
  import { counted, date } from '../lib/format';
  import * as server from '../lib/server/access';

  const PAGE = 100;
  const MOST = 200;
  let search = $state('');
  let count = $state(PAGE);
  const query = createQuery(() => server.trail(search, count));
</script>

<svelte:head><title>Trail · Ispettore</title></svelte:head>
<main>
  <ScreenHead title="Trail">
    {#snippet way()}<a href="#/people">People</a>{/snippet}
    {#snippet told()}
      {#if query.data}{counted(query.data.total, 'line')}{search ? ' found' : ''}.{/if} Every act that changes something,
      written with the change itself. Nothing can be taken out.
    {/snippet}
    {#snippet acts()}<a href="/api/trail.csv" download>All of it as CSV</a>{/snippet}
  </ScreenHead>
  <div class="choices">
    <Labelled label="Who, what, from where, or which production"
      ><input type="search" bind:value={search} maxlength="200" /></Labelled
    >
  </div>
  <Problem {query} />
  {#if query.data?.lines.length}
    <ListTable caption="Trail">
      <thead>
        <tr
          ><th scope="col">When</th><th scope="col">Who</th><th scope="col">What</th><th scope="col">Production</th><th
            scope="col">Known by</th
          ><th scope="col">From</th></tr
        >
      </thead>
      <tbody>
        {#each query.data.lines as line (line.number)}
          <tr>
            <td class="when">{date(line.at)}</td>
            <th scope="row">{line.who}</th>
            <td>{line.act}{line.subjects > 1 ? ` (${line.subjects})` : ''}</td>
            <td>{line.production}</td>
            <td>{line.way}</td>
            <td class="figure">{line.address}</td>
          </tr>
        {/each}
      </tbody>
    </ListTable>
    {#if query.data.lines.length < query.data.total && count < MOST}
      <p class="more"><Button onclick={() => (count = MOST)}>Show more</Button></p>
    {:else if query.data.lines.length < query.data.total}
      <p class="soft more">The newest {MOST} are shown; search, or take all of it as CSV.</p>
    {/if}
  {:else if query.data}
    <p class="soft">{search ? 'No line matches.' : 'Nothing was done yet.'}</p>
  {/if}
</main>

<style>
  main {
    padding: var(--space-6) var(--space-7) var(--space-8);
  }
  .choices {
    margin: var(--space-5) 0;
    max-width: 360px;
  }
  .when {
    white-space: nowrap;
  }
  .figure {
    font-family: var(--figures);
    font-size: var(--type-small);
  }
  .more {
    margin-top: var(--space-5);
  }
</style>
