<script lang="ts">
  // The bed under the ribbon, against the voice: how loud it will be, lowered by the voice, and how loud it was in the file made.
  import { createQuery } from '@tanstack/svelte-query';
  import type { BedView } from '../lib/api';
  import { levels, LOWEST_LU } from '../lib/bed-line';
  import { exact, number } from '../lib/format';
  import { across, frameOf, LEFT } from '../lib/ribbon-geometry';
  import type { RibbonView } from '../lib/ribbon-view.svelte';
  import * as server from '../lib/server/beds';
  interface Props {
    recordingId: string;
    knownAs: string;
    view: RibbonView;
    bed: BedView;
    playhead: number;
  }
  let { recordingId, knownAs, view, bed, playhead }: Props = $props();
  let outer = $state(1200);
  const frame = $derived(frameOf(outer, view));
  const TALL = 54;
  const lowering = createQuery(() => server.lowering(recordingId, knownAs, bed.state, bed.made_by));
  const y = (level: number) => 2 + (Math.max(LOWEST_LU, level) / LOWEST_LU) * (TALL - 4);
  const count = $derived(Math.max(1, Math.round(frame.plot / 2)));
  const x = (index: number) => LEFT + ((index + 0.5) / count) * frame.plot;
  const line = (found: number[]) =>
    found.map((level, index) => `${x(index).toFixed(1)},${y(level).toFixed(1)}`).join(' ');
  const will = $derived(levels(bed, lowering.data?.will, view.start, view.end, count));
  const did = $derived(lowering.data?.did ? levels(bed, lowering.data.did, view.start, view.end, count) : undefined);
  const area = $derived(`${LEFT},${TALL - 2} ${line(will)} ${frame.right},${TALL - 2}`);
  const here = $derived(across(frame, playhead, playhead));
  const deepest = $derived(lowering.data?.will?.deepest ?? 0);
  const loudest = $derived(Math.max(...(bed.bed.clips ?? []).map((clip) => clip.level_lu ?? 0)));
  const said = $derived(
    `Bed against the voice: ${number(loudest, 1)} LU in pauses, ${number(loudest + deepest, 1)} LU under the words` +
      `${did ? '; as predicted, and as it came in the file made' : ', as predicted'}.`,
  );
</script>

<div class="bed" bind:clientWidth={outer}>
  <svg width={frame.width} height={TALL} role="img" aria-label={said}>
    {#each [0, -12, -24] as level (level)}
      <line class="rule" x1={LEFT} x2={frame.right} y1={y(level)} y2={y(level)} />
      <text class="axis" x={LEFT - 6} y={y(level) + (level ? 4 : 9)} text-anchor="end">{number(level, 0)}</text>
    {/each}
    <polygon points={area} />
    <polyline class="will" points={line(will)} />
    {#if did}<polyline class="did" points={line(did)} />{/if}
    {#if here}<line class="head" x1={here.x} x2={here.x} y1="0" y2={TALL} />{/if}
    {#if !frame.narrow}
      <text x={frame.right + 8} y="16">Bed to voice</text>
      <text x={frame.right + 8} y="31">{exact(loudest)} to {exact(Number((loudest + deepest).toFixed(1)))} LU</text>
      <text x={frame.right + 8} y="46">{did ? 'line: as it came' : 'as predicted'}</text>
    {/if}
  </svg>
</div>

<style>
  .bed {
    background: var(--sheet);
    border: 1px solid var(--rule);
    border-top: 0;
    overflow: hidden;
  }
  svg {
    display: block;
  }
  text {
    font: var(--type-axis) var(--figures);
    fill: var(--soft);
  }
  .rule {
    stroke: var(--rule);
  }
  polygon {
    fill: var(--act-pale);
  }
  .will {
    fill: none;
    stroke: var(--act);
    stroke-dasharray: 4 2.5;
  }
  .did {
    fill: none;
    stroke: var(--ink);
    stroke-width: 1.4;
  }
  .head {
    stroke: var(--act);
  }
</style>
