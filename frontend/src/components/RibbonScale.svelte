<script lang="ts">
  // What lies under the ribbon: the decibel axis with corridors of limits, or the axis of amplitudes while the wave is drawn.
  import { number } from '../lib/format';
  import type { LimitLine } from '../lib/limit-lines';
  import { waveAt } from '../lib/ribbon-drawing';
  import { FLOOR, HEIGHT, LEFT, TOP, y, type Frame } from '../lib/ribbon-geometry';
  interface Props {
    frame: Frame;
    corridors: LimitLine[];
    /** The amplitude that is drawn as tall as it can be, while the wave is. */
    tallest: number | undefined;
  }
  let { frame, corridors, tallest }: Props = $props();
</script>

<svg width={frame.width} height={HEIGHT} class="under" aria-hidden="true">
  {#if tallest !== undefined}
    {#each [tallest, 0, -tallest] as value (value)}
      {@const at = waveAt({ top: TOP, floor: FLOOR, tallest }, value)}
      <line class="grid" x1={LEFT} x2={frame.right} y1={at} y2={at} />
      <text class="scale" x={LEFT - 8} y={at + 4}>{String(value).replace('-', '−')}</text>
    {/each}
  {:else}
    {#each corridors as { limit, low, high } (limit.quantity)}
      <rect class="corridor" x={LEFT} width={frame.plot} y={y(high)} height={y(low) - y(high)} />
    {/each}
    {#each [0, -20, -40, -60, -80] as level (level)}
      <line class="grid" x1={LEFT} x2={frame.right} y1={y(level)} y2={y(level)} />
      <text class="scale" x={LEFT - 8} y={y(level) + 4}>{number(level, 0)}</text>
    {/each}
  {/if}
</svg>

<style>
  svg {
    position: absolute;
    top: 0;
    display: block;
  }
  .corridor {
    fill: color-mix(in srgb, var(--inside) 13%, transparent);
  }
  .grid {
    stroke: var(--rule);
    stroke-width: 0.6;
  }
  .scale {
    font: var(--type-axis) var(--figures);
    fill: var(--soft);
    text-anchor: end;
  }
</style>
