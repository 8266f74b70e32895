<script lang="ts">
  // How the installation itself is: what has to be there, what waits and runs, what failed.
  import { createQuery } from '@tanstack/svelte-query';
  import BracketMark from '../components/BracketMark.svelte';
  import Button from '../components/Button.svelte';
  import ListTable from '../components/ListTable.svelte';
  import Problem from '../components/Problem.svelte';
  import ScreenHead from '../components/ScreenHead.svelte';
  import { Acting } from '../lib/acting.svelte';
  import type { WorkKind } from '../lib/api';
  import { counted, date } from '../lib/format';
  import * as server from '../lib/server/operation';

  const acting = new Acting();
  const query = createQuery(() => server.operation());
  const found = $derived(query.data);
  const wrong = $derived(found?.parts.filter(({ fine }) => !fine).length ?? 0);
  const KINDS: Record<WorkKind, string> = {
    inspect: 'Measuring',
    plan: 'Planning',
    conform: 'Conforming',
    deliver: 'Making files to deliver',
    verify: 'Verifying',
    'hand-over': 'Handing over',
    archive: 'Making an archive',
    import: 'Importing an archive',
    demo: 'Making the demo',
    retake: 'Preparing retakes',
    bed: 'Measuring sounds for beds',
  };
  const again = (work: string) => acting.attempt(() => server.again(work));
</script>

<svelte:head><title>Operation · Ispettore</title></svelte:head>
<main>
  <ScreenHead title="Operation">
    {#snippet way()}<a href="#/settings">Settings</a>{/snippet}
    {#snippet told()}
      {#if found}{wrong ? `${counted(wrong, 'part')} need${wrong === 1 ? 's' : ''} attention.` : 'Everything is there.'}
        {found.failures.length
          ? `${counted(found.failures.length + found.more_failures, 'failure')}.`
          : 'Nothing failed.'}{/if}
    {/snippet}
    {#snippet acts()}<a href="/api/metrics">Figures for monitoring</a>{/snippet}
  </ScreenHead>
  <Problem {acting} />
  <Problem {query} />
  {#if found}
    <div class="halves">
      <section aria-label="What has to be there">
        <h2>What has to be there</h2>
        <ListTable caption="What has to be there">
          <tbody>
            {#each found.parts as part (part.name)}
              <tr data-part={part.name}>
                <th scope="row"
                  ><BracketMark position={part.fine ? 'inside' : 'over'} silent />
                  {part.name}</th
                >
                <td class:wrong={!part.fine}>{part.told}</td>
              </tr>
            {/each}
          </tbody>
        </ListTable>
      </section>
      <section aria-label="Work">
        <h2>Work</h2>
        <ListTable caption="Work">
          <thead>
            <tr
              ><th scope="col">Kind</th><th scope="col">Running</th><th scope="col">Waiting</th><th scope="col"
                >First waits since</th
              ></tr
            >
          </thead>
          <tbody>
            {#each found.queue as line (line.kind)}
              <tr>
                <th scope="row">{KINDS[line.kind]}</th>
                <td>{line.running}</td>
                <td>{line.waiting}</td>
                <td>{line.waiting_since ? date(line.waiting_since) : ''}</td>
              </tr>
            {:else}
              <tr><td colspan="4">Nothing waits or runs.</td></tr>
            {/each}
          </tbody>
        </ListTable>
        <ul class="soft">
          {#each found.workers as worker (worker.id)}
            <li>
              Worker {worker.id}{worker.machine ? ` on ${worker.machine}` : ''}: {worker.alive
                ? 'at work'
                : `last heard of ${date(worker.heard_at)}`}{worker.older
                ? `, of an older version (${worker.software})`
                : ''}.
            </li>
          {/each}
        </ul>
      </section>
    </div>
    <section aria-label="Failures">
      <h2>Failures</h2>
      {#if found.failures.length}
        <ListTable caption="Failures">
          <thead>
            <tr
              ><th scope="col">When</th><th scope="col">What</th><th scope="col">Of</th><th scope="col">Why</th><th
                scope="col"><span class="visually-hidden">Try again</span></th
              ></tr
            >
          </thead>
          <tbody>
            {#each found.failures as one (one.work)}
              <tr>
                <td class="when">{date(one.finished_at)}</td>
                <td>{KINDS[one.kind]}</td>
                <th scope="row"
                  >{#if one.recording}<a href={`#/recordings/${one.recording}`}>{one.recording_name}</a>{/if}
                  {#if one.production}<a class="of" href={`#/productions/${one.production}`}>{one.production_name}</a
                    >{/if}</th
                >
                <td>{one.error}</td>
                <td
                  ><Button
                    label={`Try again: ${KINDS[one.kind]}, ${one.recording_name || one.production_name}`}
                    onclick={() => again(one.work)}>Try again</Button
                  ></td
                >
              </tr>
            {/each}
          </tbody>
        </ListTable>
        {#if found.more_failures}<p class="soft">And {found.more_failures} earlier.</p>{/if}
      {:else}
        <p class="soft">Nothing failed that was not asked for again.</p>
      {/if}
    </section>
  {/if}
</main>

<style>
  main {
    padding: var(--space-6) var(--space-7) var(--space-8);
  }
  .halves {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(min(460px, 100%), 1fr));
    gap: 0 var(--space-7);
  }
  section {
    margin-top: var(--space-6);
    min-width: 0;
  }
  h2 {
    margin-bottom: var(--space-3);
  }
  th:has(a) {
    min-width: 200px;
  }
  .wrong {
    color: var(--outside);
  }
  .when {
    white-space: nowrap;
  }
  .of {
    display: block;
    font-size: var(--type-small);
  }
  ul {
    padding: 0;
    list-style: none;
  }
  .soft {
    margin-top: var(--space-3);
    font-size: var(--type-plain);
  }
</style>
