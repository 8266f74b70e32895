<script lang="ts">
  // Two versions of a recording side by side: what was asked and done differently, and what both read.
  import { createQuery } from '@tanstack/svelte-query';
  import type { Version, VersionPair } from '../lib/api';
  import { versionName } from '../lib/attempts';
  import { date, number } from '../lib/format';
  import type { Meanings } from '../lib/methods';
  import * as drafts from '../lib/server/drafts';
  import ChangeList from './ChangeList.svelte';
  import Explained from './Explained.svelte';
  import FigureTable from './FigureTable.svelte';
  import Problem from './Problem.svelte';
  interface Props {
    recordingId: string;
    one: number;
    other: number;
    meanings: Meanings | undefined;
  }
  let { recordingId, one, other, meanings }: Props = $props();
  const query = createQuery(() => drafts.versions(recordingId, one, other));
  const found = $derived(query.data);
  let all = $state(false);
  const pairs = $derived((found?.readings ?? []).filter((pair) => all || !pair.alike));
  const figure = (value: number | null, pair: VersionPair) => (value === null ? '–' : number(value, pair.decimals));
  const moved = (pair: VersionPair) => (pair.one === null || pair.other === null ? null : pair.other - pair.one);
  const by = (pair: VersionPair) => {
    const value = moved(pair);
    if (value === null || pair.alike) return '';
    return `${value > 0 ? '+' : ''}${number(value, pair.decimals)}`;
  };
  const stands = (version: Version) =>
    version.certified ? 'certified' : version.verdict.passes ? 'inside' : 'outside';
  const ledgers = $derived(
    [found?.one, found?.other].filter((version): version is Version => Boolean(version?.ledger.length)),
  );
  const LEDGER = [
    ['sample_peak_dbfs', 'Peak'],
    ['rms_dbfs', 'RMS'],
    ['integrated_loudness_lufs', 'LUFS'],
    ['crest_factor_db', 'Crest'],
  ] as const;
</script>

{#snippet head(version: Version)}
  <div>
    <h3>{versionName(version.number)}</h3>
    <p class="soft">
      {date(version.made_at)}{version.made_for
        ? `, for ${version.made_for.name}, version ${version.made_for.version}`
        : ''}
    </p>
    <p>
      <span class={stands(version) === 'outside' ? 'outside' : 'inside'}>{stands(version)}</span>{version.touch
        ? `, touch ${number(version.touch.touch ?? 0, 0)}`
        : ''}{version.there ? '' : '; its file was cleared'}
    </p>
  </div>
{/snippet}

<div class="two">
  {#if query.isError}
    <Problem {query} />
  {:else if found}
    <div class="heads">{@render head(found.one)}{@render head(found.other)}</div>
    {#if found.asked.length}
      <h4>Different requests</h4>
      <ChangeList changes={found.asked} label="Different requests" named />
    {/if}
    <h4>Different steps</h4>
    {#if found.done.length}<ChangeList changes={found.done} label="Different steps" />
    {:else}<p class="soft">No differences: the same steps with the same settings.</p>{/if}
    <h4>Readings</h4>
    {#if pairs.length}
      <FigureTable>
        <thead>
          <tr>
            <th scope="col"><span class="visually-hidden">Quantity</span></th>
            <th scope="col">{versionName(one)}</th>
            <th scope="col">{versionName(other)}</th>
            <th scope="col">Difference</th>
          </tr>
        </thead>
        <tbody>
          {#each pairs as pair (pair.quantity)}
            <tr class:alike={pair.alike}>
              <th scope="row"><Explained text={pair.title} method={meanings?.quantities.get(pair.quantity)} /></th>
              <td>{figure(pair.one, pair)}</td>
              <td>{figure(pair.other, pair)} <span class="unit">{pair.unit}</span></td>
              <td>{by(pair)} <span class="unit">{by(pair) ? pair.difference_unit : ''}</span></td>
            </tr>
          {/each}
        </tbody>
      </FigureTable>
    {:else}<p class="soft">Every reading is the same to the figures shown.</p>{/if}
    <label class="all"
      ><input type="checkbox" bind:checked={all} /> Show what reads the same ({found.readings.length -
        found.readings.filter((pair) => !pair.alike).length})</label
    >
    {#if ledgers.length}
      <h4>After each step</h4>
      {#each ledgers as version (version.number)}
        <FigureTable>
          <thead>
            <tr>
              <th scope="col">{versionName(version.number)}</th>
              {#each LEDGER as [, title] (title)}<th scope="col">{title}</th>{/each}
            </tr>
          </thead>
          <tbody>
            {#each version.ledger as line, place (place)}
              <tr>
                <th scope="row">{version.steps[place]?.reading.title ?? line.kind}</th>
                {#each LEDGER as [quantity] (quantity)}
                  {@const value = line.readings?.[quantity]?.value ?? null}
                  <td>{value === null ? '–' : number(value, 1)}</td>
                {/each}
              </tr>
            {/each}
          </tbody>
        </FigureTable>
      {/each}
    {/if}
  {/if}
</div>

<style>
  .two {
    padding: var(--space-4) var(--space-5) var(--space-5);
    font-size: var(--type-plain);
  }
  .heads {
    display: grid;
    grid-template-columns: 1fr 1fr;
    gap: var(--space-5);
  }
  h3::first-letter {
    text-transform: uppercase;
  }
  h3 {
    font-size: var(--type-plain);
    font-weight: 600;
  }
  h4 {
    font-size: var(--type-small);
    font-weight: 550;
    margin: var(--space-5) 0 var(--space-1);
  }
  .unit,
  .alike {
    color: var(--soft);
  }
  .unit {
    font-size: var(--type-fine);
  }
  .inside {
    color: var(--inside);
  }
  .outside {
    color: var(--outside);
  }
  td {
    font-family: var(--figures);
    font-size: var(--type-small);
  }
  .all {
    display: flex;
    gap: var(--space-3);
    color: var(--soft);
  }
</style>
