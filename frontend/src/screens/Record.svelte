<script lang="ts">
  // What was done to which recording of a production when, and its archive.
  import { createQuery } from '@tanstack/svelte-query';
  import ArchivePanel from '../components/ArchivePanel.svelte';
  import Button from '../components/Button.svelte';
  import Choice from '../components/Choice.svelte';
  import ListTable from '../components/ListTable.svelte';
  import ScreenHead from '../components/ScreenHead.svelte';
  import { Acting } from '../lib/acting.svelte';
  import type { Deed } from '../lib/api';
  import { counted, day, time } from '../lib/format';
  import * as productions from '../lib/server/productions';
  import Problem from '../components/Problem.svelte';

  let { params }: { params: { id: string } } = $props();
  const PAGE = 100;
  const acting = new Acting();
  let recording = $state('');
  let topic = $state<Deed['topic'] | ''>('');
  let count = $state(PAGE);
  const query = createQuery(() => productions.record(params.id, { recording, topic, count }));
  const found = $derived(query.data);
  const topics = $derived(Object.entries(found?.topics ?? {}) as [Deed['topic'], string][]);
  /** The deeds of each day, the newest day first. */
  const days = $derived.by(() => {
    const listed: [string, Deed[]][] = [];
    for (const deed of found?.deeds ?? []) {
      const of = day(deed.at);
      const last = listed.at(-1);
      if (last?.[0] === of) last[1].push(deed);
      else listed.push([of, [deed]]);
    }
    return listed;
  });
</script>

<svelte:head><title>Record · {found?.name ?? ''} · Ispettore</title></svelte:head>
<main>
  <ScreenHead title="Record">
    {#snippet way()}<a href={`#/productions/${params.id}`}>{found?.name ?? 'Inspection sheet'}</a>{/snippet}
    {#snippet told()}
      What was done, to which recording, and when{#if found}: {counted(found.total, 'entry', 'entries')}{recording ||
        topic
          ? ' shown'
          : ''}{/if}.
    {/snippet}
    {#snippet acts()}
      <a href={`/api/productions/${params.id}/record.txt`} download>Record as text</a>
      <a href={`/api/productions/${params.id}/record.json`} download>Record as JSON</a>
    {/snippet}
  </ScreenHead>
  <Problem {acting} />
  <ArchivePanel production={params.id} {acting} />
  <div class="choices">
    <Choice
      label="Recording"
      value={recording}
      options={[['', 'All'], ...Object.entries(found?.recordings ?? {})]}
      onchange={(to) => (recording = to)}
    />
    <Choice label="About" value={topic} options={[['', 'Everything'], ...topics]} onchange={(to) => (topic = to)} />
  </div>
  {#if query.isError}
    <Problem {query} />
  {:else if found}
    <ListTable caption="What was done, the newest first">
      <thead>
        <tr
          ><th scope="col">Time</th><th scope="col">Recording</th><th scope="col">What was done</th><th scope="col"
            >SHA-256</th
          ></tr
        >
      </thead>
      {#each days as [of, deeds] (of)}
        <tbody>
          <tr><th scope="rowgroup" colspan="4" class="day">{of}</th></tr>
          {#each deeds as deed, place (place)}
            <tr>
              <td class="when">{time(deed.at)}</td>
              <td class="name"
                >{#if deed.recording}<a href={`#/recordings/${deed.recording}`}>{deed.name}</a>{/if}</td
              >
              <td class="what">
                {#if deed.certificate}<a href={`#/certificates/${deed.certificate}`}>{deed.text}</a>
                {:else}{deed.text}{/if}
                {#if (deed.details ?? []).length > 2}
                  <details>
                    <summary>How, in {counted(deed.details?.length ?? 0, 'line')}</summary>
                    <ul>
                      {#each deed.details ?? [] as detail, at (at)}<li>{detail}</li>{/each}
                    </ul>
                  </details>
                {:else}
                  {#each deed.details ?? [] as detail, at (at)}<span class="detail">{detail}</span>{/each}
                {/if}
              </td>
              <td class="hash" title={deed.sha256}>{deed.sha256 ? `${deed.sha256.slice(0, 12)}…` : ''}</td>
            </tr>
          {/each}
        </tbody>
      {/each}
    </ListTable>
    {#if found.deeds.length < found.total}
      <p class="more"><Button onclick={() => (count += PAGE)}>Show more</Button></p>
    {/if}
  {/if}
</main>

<style>
  main {
    padding: var(--space-6) var(--space-7) var(--space-8);
  }
  .choices {
    display: flex;
    gap: var(--space-6);
    margin: 0 0 var(--space-5);
  }
  .day {
    padding-top: var(--space-5);
    font-weight: 550;
  }
  .when,
  .hash {
    white-space: nowrap;
    color: var(--soft);
    font-family: var(--figures);
    font-size: var(--type-small);
  }
  .name {
    white-space: nowrap;
  }
  .what {
    width: 60%;
    overflow-wrap: anywhere;
  }
  details,
  .detail {
    display: block;
    font-size: var(--type-small);
    color: var(--soft);
  }
  summary {
    cursor: pointer;
    width: fit-content;
  }
  ul {
    list-style: none;
    margin: var(--space-1) 0 var(--space-2);
    padding-left: var(--space-6);
  }
  .more {
    margin-top: var(--space-5);
  }
</style>
