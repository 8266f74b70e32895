<script lang="ts">
  // Which gains every limit allows: one bar a limit on a common gain axis; where all overlap is the window.
  import { scaleLinear } from 'd3-scale';
  import type { GainWindow } from '../lib/api';
  import { number } from '../lib/format';
  interface Props {
    window: GainWindow;
    gain?: number;
  }
  let { window: picture, gain }: Props = $props();

  const WIDTH = 400;
  const ROW = 26;
  const TOP = 18;
  const LEFT = 118;
  const ends = $derived(
    picture.bars.flatMap((bar) => [bar.low_db, bar.high_db]).filter((value): value is number => value !== null),
  );
  const scale = $derived.by(() => {
    const least = Math.min(0, ...ends, gain ?? 0);
    const most = Math.max(0, ...ends, gain ?? 0);
    const room = Math.max(2, (most - least) * 0.1);
    return scaleLinear()
      .domain([least - room, most + room])
      .range([LEFT, WIDTH - 8]);
  });
  const height = $derived(TOP + picture.bars.length * ROW + 26);
  const low = $derived(picture.low_db ?? null);
  const high = $derived(picture.high_db ?? null);
  const open = $derived(low === null || high === null || low <= high);
  const from = (value: number | null) => (value === null ? LEFT : scale(value));
  const to = (value: number | null) => (value === null ? WIDTH - 8 : scale(value));
  const signed = (value: number) => `${value > 0 ? '+' : ''}${number(value, 1)} dB`;
  const said = $derived(
    open
      ? low !== null && high !== null
        ? `Every limit allows a gain from ${signed(low)} to ${signed(high)}.`
        : 'Every limit allows some gain.'
      : `No gain meets every limit: two of them are ${number(Math.max(0.1, (low ?? 0) - (high ?? 0)), 1)} dB apart.`,
  );
</script>

<figure>
  <svg viewBox={`0 0 ${WIDTH} ${height}`} role="img" aria-label={said}>
    {#if low !== null && high !== null}
      <rect
        class={open ? 'window' : 'gap'}
        x={open ? scale(low) : scale(high)}
        y={TOP - 6}
        width={Math.max(2, Math.abs(scale(high) - scale(low)))}
        height={height - TOP - 16}
      />
    {/if}
    {#each scale.ticks(6) as tick (tick)}
      <line class="tick" x1={scale(tick)} x2={scale(tick)} y1={TOP - 6} y2={height - 20} />
      <text class="scale" x={scale(tick)} y={height - 6}>{tick > 0 ? '+' : ''}{number(tick, 0)}</text>
    {/each}
    {#each picture.bars as bar, index (bar.quantity)}
      {@const y = TOP + index * ROW}
      <text class="title" x="0" y={y + 12}>{bar.title}</text>
      <rect
        class="bar"
        class:sets={bar.quantity === picture.raised_by || bar.quantity === picture.held_by}
        x={from(bar.low_db)}
        {y}
        width={Math.max(2, to(bar.high_db) - from(bar.low_db))}
        height="15"
      />
      {#if bar.low_db !== null}<path class="end" d={`M${scale(bar.low_db) + 4} ${y}h-4v15h4`} />{/if}
      {#if bar.high_db !== null}<path class="end" d={`M${scale(bar.high_db) - 4} ${y}h4v15h-4`} />{/if}
    {/each}
    {#if gain !== undefined}
      <line class="hand" x1={scale(gain)} x2={scale(gain)} y1="4" y2={height - 20} />
      <path class="grip" d={`M${scale(gain)} 12l-5 -9h10z`} />
    {/if}
  </svg>
  <figcaption>{said}</figcaption>
</figure>

<style>
  figure {
    margin: 0;
  }
  svg {
    display: block;
    width: 100%;
    max-width: 520px;
  }
  .bar {
    fill: #fff;
    stroke: var(--rule);
  }
  .bar.sets {
    stroke: var(--soft);
  }
  .end {
    fill: none;
    stroke: var(--ink);
    stroke-width: 1.5;
  }
  .window {
    fill: color-mix(in srgb, var(--inside) 16%, transparent);
  }
  .gap {
    fill: color-mix(in srgb, var(--outside) 12%, transparent);
  }
  .tick {
    stroke: var(--rule);
    stroke-width: 0.6;
  }
  .scale {
    font: 10px var(--figures);
    fill: var(--soft);
    text-anchor: middle;
  }
  .title {
    font: 12.5px var(--words);
    fill: var(--ink);
  }
  .hand {
    stroke: var(--act);
    stroke-width: 1.4;
  }
  .grip {
    fill: var(--act);
  }
  figcaption {
    font-size: 13px;
    color: var(--soft);
  }
</style>
