<script lang="ts">
  // What the selection reads: every level of it, as soon as it is drawn.
  import { createQuery } from '@tanstack/svelte-query';
  import { number } from '../lib/format';
  import { takenHere, type Meanings } from '../lib/methods';
  import type { Inspection } from '../lib/api';
  import { Resting } from '../lib/resting.svelte';
  import type { Span } from '../lib/ribbon-view.svelte';
  import * as recordings from '../lib/server/recordings';
  import CutSample from './CutSample.svelte';
  import Explained from './Explained.svelte';
  import Problem from './Problem.svelte';
  interface Props {
    recordingId: string;
    selection: Span;
    facts: Inspection['facts'];
    meanings?: Meanings;
  }
  let { recordingId, selection, facts, meanings }: Props = $props();
  const resting = new Resting(() => selection, 90);
  const found = createQuery(() => ({ ...recordings.span(recordingId, resting), enabled: resting.some }));
  const busy = $derived(found.isFetching || !resting.current);
  const shown = $derived(
    Object.values(found.data ?? {}).map((reading) => ({ reading, method: meanings?.quantities.get(reading.quantity) })),
  );
</script>

<div class="span" role="group" aria-label="Readings of the selection" aria-busy={busy}>
  {#if found.isError}
    <Problem query={found} />
  {:else if shown.length}
    <dl>
      {#each shown as { reading, method } (reading.quantity)}
        <div>
          <dt><Explained text={method?.title ?? reading.quantity} {method} here={takenHere(reading, facts)} /></dt>
          <dd data-quantity={reading.quantity}>
            {reading.value === null
              ? reading.silence
                ? 'silence'
                : '–'
              : number(reading.value, method?.decimals ?? 1)}
            {#if reading.value !== null}<span class="unit">{reading.unit}</span>{/if}
          </dd>
        </div>
      {/each}
    </dl>
  {:else}
    <p>Measuring selection…</p>
  {/if}
  <CutSample {recordingId} {selection} />
</div>

<style>
  .span {
    background: var(--sheet);
    border: 1px solid var(--rule);
    border-top: 0;
    padding: var(--space-3) var(--space-5) var(--space-4);
    font-size: var(--type-small);
  }
  dl {
    display: grid;
    grid-template-columns: repeat(auto-fill, minmax(240px, 1fr));
    gap: 1px var(--space-7);
    margin: 0;
  }
  dl div {
    display: flex;
    justify-content: space-between;
    gap: var(--space-4);
  }
  dd {
    margin: 0;
    font-family: var(--figures);
    white-space: nowrap;
  }
  /* Figures of the selection before this one. */
  [aria-busy='true'] dd {
    color: var(--soft);
  }
  .unit {
    color: var(--soft);
    font-size: var(--type-fine);
    display: inline-block;
    min-width: 36px;
  }
  p {
    color: var(--soft);
  }
</style>
