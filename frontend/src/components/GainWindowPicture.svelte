<script lang="ts">
  // Which gains every limit allows: one bar a limit on a common gain axis; where all overlap is the window. The last gain is a hand
  // on the axis, to be dragged or moved by keys.
  import { scaleLinear } from 'd3-scale';
  import type { GainWindow } from '../lib/api';
  import { number } from '../lib/format';
  interface Props {
    window: GainWindow;
    gain?: number;
    /** Whether the bars are foretold for a draft: they are drawn dashed. */
    expected?: boolean;
    onset?: (gain: number) => void;
  }
  let { window: picture, gain, expected = false, onset }: Props = $props();

  let outer = $state(520);
  const WIDTH = $derived(Math.max(outer, 260));
  const ROW = 22;
  const TOP = 18;
  const LEFT = 122;
  const LEAST = -60;
  const MOST = 60;
  let dragged = $state<number>();
  const hand = $derived(dragged ?? gain ?? (onset ? 0 : undefined));
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
  const height = $derived(TOP + picture.bars.length * ROW + 24);
  const low = $derived(picture.low_db ?? null);
  const high = $derived(picture.high_db ?? null);
  const open = $derived(low === null || high === null || low <= high);
  const from = (value: number | null) => (value === null ? LEFT : scale(value));
  const to = (value: number | null) => (value === null ? WIDTH - 8 : scale(value));
  const signed = (value: number) => `${value > 0 ? '+' : ''}${number(value, 1)} dB`;
  const titled = (quantity: string | null) => {
    const found = picture.bars.find((bar) => bar.quantity === quantity)?.title ?? '';
    return /^[A-Z][a-z]/.test(found) ? found.charAt(0).toLowerCase() + found.slice(1) : found;
  };
  const said = $derived(
    open
      ? low !== null && high !== null
        ? `Every limit allows a gain from ${signed(low)} (${titled(picture.raised_by)}) to ${signed(high)} (${titled(picture.held_by)}).`
        : 'Every limit allows some gain.'
      : `Gain alone can’t meet every limit: ${titled(picture.raised_by)} and ${titled(picture.held_by)} are ${number(Math.max(0.1, (low ?? 0) - (high ?? 0)), 1)} dB apart.`,
  );

  const round = (value: number) => Math.max(LEAST, Math.min(MOST, Math.round(value * 10) / 10));
  function set(value: number): void {
    dragged = undefined;
    if (value !== gain) onset?.(value);
  }
  function onpointerdown(event: PointerEvent & { currentTarget: Element }): void {
    event.currentTarget.setPointerCapture(event.pointerId);
    dragged = hand;
  }
  function onpointermove(event: PointerEvent & { currentTarget: Element }): void {
    if (dragged === undefined) return;
    const box = (event.currentTarget as SVGGElement).ownerSVGElement?.getBoundingClientRect();
    if (box) dragged = round(scale.invert(event.clientX - box.left));
  }
  let nudged: ReturnType<typeof setTimeout> | undefined;
  function onkeydown(event: KeyboardEvent): void {
    const by = { ArrowLeft: -0.5, ArrowDown: -0.5, ArrowRight: 0.5, ArrowUp: 0.5 }[event.key];
    if (by === undefined || event.altKey) return;
    event.preventDefault();
    event.stopPropagation();
    dragged = round((hand ?? 0) + by * (event.shiftKey ? 0.2 : 1));
    const wanted = dragged;
    clearTimeout(nudged);
    nudged = setTimeout(() => set(wanted), 350);
  }
</script>

<figure bind:clientWidth={outer}>
  <svg width={WIDTH} {height} role="group" aria-label={`Gain window. ${said}`}>
    {#if low !== null && high !== null}
      <rect
        class={open ? 'window' : 'gap'}
        x={open ? scale(low) : scale(high)}
        y={TOP - 6}
        width={Math.max(2, Math.abs(scale(high) - scale(low)))}
        height={height - TOP - 14}
      />
    {/if}
    {#each scale.ticks(6) as tick (tick)}
      <line class="tick" x1={scale(tick)} x2={scale(tick)} y1={TOP - 6} y2={height - 19} />
      <text class="scale" x={scale(tick)} y={height - 6}>{tick > 0 ? '+' : ''}{number(tick, 0)}</text>
    {/each}
    {#each picture.bars as bar, index (bar.quantity)}
      {@const y = TOP + index * ROW}
      <text class="title" x="0" y={y + 12}>{bar.title}</text>
      <rect
        class="bar"
        class:sets={bar.quantity === picture.raised_by || bar.quantity === picture.held_by}
        class:expected
        x={from(bar.low_db)}
        {y}
        width={Math.max(2, to(bar.high_db) - from(bar.low_db))}
        height="14"
      />
      {#if bar.low_db !== null}<path class="end" d={`M${scale(bar.low_db) + 4} ${y}h-4v14h4`} />{/if}
      {#if bar.high_db !== null}<path class="end" d={`M${scale(bar.high_db) - 4} ${y}h4v14h-4`} />{/if}
    {/each}
    {#if hand !== undefined}
      <g
        class="hand"
        role="slider"
        tabindex="0"
        aria-label="Last gain"
        aria-valuemin={LEAST}
        aria-valuemax={MOST}
        aria-valuenow={hand}
        aria-valuetext={signed(hand)}
        {onpointerdown}
        {onpointermove}
        onpointerup={() => dragged !== undefined && set(dragged)}
        {onkeydown}
      >
        <line x1={scale(hand)} x2={scale(hand)} y1="6" y2={height - 19} />
        <path d={`M${scale(hand)} 14l-6 -10h12z`} />
        <rect class="grip" x={scale(hand) - 9} y="0" width="18" height={height - 19} />
        {#if dragged !== undefined}<text class="now" x={scale(hand) + 9} y="12">{signed(hand)}</text>{/if}
      </g>
    {/if}
  </svg>
  <figcaption>{said}{hand !== undefined && gain !== undefined ? ` The last gain is ${signed(hand)}.` : ''}</figcaption>
</figure>

<style>
  figure {
    margin: 0;
    overflow-x: hidden;
  }
  svg {
    display: block;
  }
  .bar {
    fill: var(--sheet);
    stroke: var(--edge);
  }
  .bar.sets {
    stroke: var(--ink);
  }
  .bar.expected {
    stroke: var(--soft);
    stroke-dasharray: 3 2.5;
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
    font: var(--type-axis) var(--figures);
    fill: var(--soft);
    text-anchor: middle;
  }
  .title {
    font: var(--type-plain) var(--words);
    fill: var(--ink);
  }
  .hand {
    cursor: ew-resize;
    touch-action: none;
  }
  .hand line {
    stroke: var(--act);
    stroke-width: 1.5;
  }
  .hand path {
    fill: var(--act);
  }
  .grip {
    fill: transparent;
  }
  .now {
    font: var(--type-fine) var(--figures);
    fill: var(--act);
  }
  figcaption {
    font-size: var(--type-small);
    color: var(--soft);
  }
</style>
