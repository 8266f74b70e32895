<script lang="ts">
  // What happened to a recording, the newest first: its versions, which of them counts, and two of them to be compared.
  import type { Acting } from '../lib/acting.svelte';
  import type { Conforming, RecordingDetail } from '../lib/api';
  import { versionName } from '../lib/attempts';
  import { date } from '../lib/format';
  import * as recordings from '../lib/server/recordings';
  import LinkButton from './LinkButton.svelte';
  interface Props {
    recording: RecordingDetail;
    acting: Acting;
    /** Which two are compared, if any. */
    compared: { one: number; other: number } | undefined;
    oncompare: (pair: { one: number; other: number } | undefined) => void;
  }
  let { recording, acting, compared, oncompare }: Props = $props();
  /** What an attempt was made for, where that is not the specification of now. */
  const elsewhere = ({ current, made_for }: Conforming, word: 'for' | 'to') =>
    current ? '' : ` ${word} ${made_for.name}, version ${made_for.version}`;
  const made = $derived(recording.conformings.filter((attempt) => attempt.sha256));
  const numbers = $derived([...made.map((attempt) => attempt.number), 0]);
  const pair = $derived(compared ?? { one: made[1]?.number ?? 0, other: made[0]?.number ?? 0 });
  const makeCurrent = (conforming_id: string) => acting.attempt(() => recordings.makeCurrent(conforming_id));
</script>

{#snippet choice(which: 'one' | 'other', label: string)}
  <select
    aria-label={label}
    value={String(pair[which])}
    onchange={(event) => oncompare({ ...pair, [which]: Number(event.currentTarget.value) })}
    >{#each numbers as one (one)}<option value={String(one)}>{versionName(one)}</option>{/each}</select
  >
{/snippet}

{#if made.length}
  <p class="compare" role="group" aria-label="Compare two versions">
    Compare {@render choice('one', 'First version')} with {@render choice('other', 'Second version')}
    {#if compared}<LinkButton onclick={() => oncompare(undefined)}>Stop comparing</LinkButton>
    {:else}<LinkButton onclick={() => oncompare(pair)}>Compare</LinkButton>{/if}
  </p>
{/if}
<ol class="history" reversed>
  {#each recording.conformings as attempt (attempt.id)}
    <li>
      <span class="number">{attempt.number}</span>
      <span>
        <span class="when">{date(attempt.created_at)}</span>
        {attempt.container.toUpperCase()}, {attempt.made_by}:
        {#if attempt.cleared_at}
          file cleared{elsewhere(attempt, 'for')}
        {:else if attempt.sha256}
          <a href={`/api/conformings/${attempt.id}/file`} download
            >{attempt.certificate_for ? 'certified' : 'conformed'}</a
          >{elsewhere(attempt, 'for')}{#if attempt.certificate_for},
            <a href={`/api/conformings/${attempt.id}/certificate`} download>certificate</a>{/if}
        {:else if attempt.refused}
          couldn't be conformed{elsewhere(attempt, 'to')}
        {:else}
          {attempt.work?.state ?? ''}
        {/if}
      </span>
      <span class="counts">
        {#if attempt.id === recording.delivered?.id}
          <b title={attempt.chosen_at ? `Chosen ${date(attempt.chosen_at)}` : undefined}>current</b>
        {:else if attempt.sha256 && !attempt.cleared_at}
          <LinkButton onclick={() => makeCurrent(attempt.id)}
            >Make<span class="visually-hidden">&#32;version {attempt.number}</span> current</LinkButton
          >
        {/if}
      </span>
    </li>
  {/each}
  <li><span class="number"></span><span><span class="when">{date(recording.created_at)}</span> added</span></li>
  {#each recording.earlier as older (older.id)}
    <li>
      <span class="number"></span><span
        ><span class="when">{date(older.created_at)}</span>
        took the place of <a href={`#/recordings/${older.id}`}>{older.name}</a></span
      >
    </li>
  {/each}
</ol>

<style>
  .compare {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-2) var(--space-4);
    align-items: baseline;
    font-size: var(--type-plain);
    margin-bottom: var(--space-4);
  }
  select {
    font-size: var(--type-plain);
    border: 0;
    border-bottom: 1px dotted var(--soft);
    background: none;
  }
  ol {
    margin: 0;
    padding: 0;
    list-style: none;
    font-size: var(--type-plain);
  }
  li {
    display: grid;
    grid-template-columns: 3ch 1fr auto;
    gap: var(--space-4);
    padding: var(--space-2) 0;
    border-bottom: 1px solid var(--rule);
  }
  .number {
    font-family: var(--figures);
  }
  .when {
    color: var(--soft);
    margin-right: var(--space-2);
  }
  b {
    font-weight: 550;
    color: var(--act);
  }
</style>
