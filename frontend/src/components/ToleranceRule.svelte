<script lang="ts">
  // One limit: a rule with a scale, the allowed band between brackets, and the reading as a wedge. Before and after together.
  import { scaleLinear } from 'd3-scale';
  import type { LimitVerdict, Method } from '../lib/api';
  import { asked, distance, number, reading, tone, unit } from '../lib/format';
  import { quantity } from '../lib/quantities';
  import BracketMark from './BracketMark.svelte';
  import Explained from './Explained.svelte';
  interface Props {
    limit: LimitVerdict;
    after?: LimitVerdict;
    /** Whether `after` is only expected: it is drawn dashed. */
    expected?: boolean;
    method?: Method;
    here?: string;
    /** Where in time the reading was taken, if that is less than the whole file. */
    taken?: { from: number; to: number };
    /** The place that is pointed at, to be marked on the ribbon; nothing when it is left. */
    onmark?: (span?: { from: number; to: number }) => void;
    ongo?: (span: { from: number; to: number }) => void;
  }
  let { limit, after, expected = false, method, here = '', taken, onmark, ongo }: Props = $props();

  // As wide as there is room for, so that its figures keep their size.
  let room = $state(300);
  const width = $derived(Math.max(110, Math.min(300, room)));
  const LEAST_SPAN: Record<string, number> = { s: 1, '': 1 };
  const now = $derived(after ?? limit);
  const values = $derived(
    [limit.reading, after?.reading].filter(
      (value): value is number => typeof value === 'number' && Number.isFinite(value),
    ),
  );
  const drawn = $derived(
    (limit.low !== null || limit.high !== null) &&
      limit.low !== limit.high &&
      (limit.unit !== '' || limit.decimals > 0) &&
      limit.unit !== 'kbit/s',
  );
  const scale = $derived.by(() => {
    const low = limit.low ?? Math.min(limit.high ?? 0, ...values);
    const high = limit.high ?? Math.max(limit.low ?? 0, ...values);
    const least = Math.min(low, ...values);
    const most = Math.max(high, ...values);
    const span = Math.max(most - least, Math.abs(high - low), LEAST_SPAN[limit.unit] ?? 6);
    const openLow = limit.low === null ? span * 0.25 : 0;
    const openHigh = limit.high === null ? span * 0.25 : 0;
    return scaleLinear()
      .domain([
        limit.unit === 's' ? Math.max(0, least - span * 0.12 - openLow) : least - span * 0.12 - openLow,
        most + span * 0.12 + openHigh,
      ])
      .range([4, width - 4]);
  });
  const x = (value: number) => Math.max(4, Math.min(width - 4, scale(value)));
  const band = $derived({
    from: limit.low === null ? 4 : x(limit.low),
    to: limit.high === null ? width - 4 : x(limit.high),
  });
  const ticks = $derived(
    !drawn ? [] : quantity(limit.quantity).clock ? minutes(scale.domain()) : scale.ticks(width > 200 ? 5 : 3),
  );
  /** Ticks at whole minutes or hours. */
  function minutes(domain: number[]): number[] {
    const [least = 0, most = 0] = domain;
    const step = [60, 300, 600, 1800, 3600].find((each) => most / each <= 6) ?? 7200;
    return Array.from({ length: Math.floor(most / step) + 1 }, (_, index) => index * step).filter((at) => at >= least);
  }
  const high = $derived(
    now.high !== null &&
      typeof now.reading === 'number' &&
      (now.low === null || now.high - now.reading < now.reading - now.low),
  );
</script>

<div
  class="rule"
  class:outside={!now.passes && now.severity === 'must'}
  role="presentation"
  onpointerenter={() => taken && onmark?.(taken)}
  onpointerleave={() => taken && onmark?.()}
>
  <div class="name">
    <BracketMark position={now.position} tone={tone(now)} {high} />
    <span class="title"><Explained text={limit.title} {method} {here} /></span>
    <span class="bounds">{asked(limit)}</span>
  </div>
  <div class="drawing" bind:clientWidth={room}>
    {#if drawn && values.length}
      <svg viewBox={`0 0 ${width} 30`} {width} height="30" aria-hidden="true">
        <rect class="band" x={band.from} y="9" width={Math.max(2, band.to - band.from)} height="9" />
        <line class="axis" x1="0" x2={width} y1="18" y2="18" />
        {#each ticks as tick (tick)}
          <line class="tick" x1={x(tick)} x2={x(tick)} y1="18" y2="21" />
          <text class="scale" x={x(tick)} y="29"
            >{quantity(limit.quantity).clock
              ? number(tick / 60, 0)
              : number(tick, Number.isInteger(tick) ? 0 : 1)}</text
          >
        {/each}
        {#if limit.low !== null}<path class="bracket" d={`M${band.from + 4} 7h-4v13h4`} />{/if}
        {#if limit.high !== null}<path class="bracket" d={`M${band.to - 4} 7h4v13h-4`} />{/if}
        {#if after && typeof limit.reading === 'number'}
          <path class="wedge before" d={`M${x(limit.reading)} 17l-4.5 -9h9z`} />
        {/if}
        {#if typeof now.reading === 'number'}
          <path
            class={`wedge ${tone(now)}`}
            class:expected={expected && after}
            d={`M${x(now.reading)} 17l-4.5 -9h9z`}
          />
        {/if}
      </svg>
    {/if}
  </div>
  <div class="figures">
    {#if after}
      <span class="was"><span class="visually-hidden">before </span>{reading(limit)}</span><span
        class="arrow"
        aria-hidden="true">→</span
      ><span class="visually-hidden">{expected ? 'expected' : 'after'}</span>
    {/if}
    {#if taken && !(expected && after)}
      <button
        type="button"
        class={`value ${tone(now)}`}
        title="Go to where it was taken"
        onfocus={() => onmark?.(taken)}
        onblur={() => onmark?.()}
        onclick={() => ongo?.(taken)}
        ><span class="visually-hidden">{limit.title}: go to where it was taken, </span>{reading(now)}</button
      >
    {:else}
      <span class={`value ${tone(now)}`} class:dashed={expected && after}>{reading(now)}</span>
    {/if}<span class="unit">{unit(now)}</span>
    <div class={`distance ${tone(now)}`}>{distance(now)}</div>
  </div>
</div>

<style>
  .rule {
    display: grid;
    grid-template-columns: minmax(118px, 0.9fr) minmax(110px, 1.2fr) minmax(126px, auto);
    gap: var(--space-5);
    align-items: center;
    padding: var(--space-2) var(--space-5);
    border-bottom: 1px solid var(--rule);
  }
  @media (max-width: 480px) {
    .rule {
      grid-template-columns: minmax(0, 1fr) auto;
      gap: var(--space-1) var(--space-4);
    }
    .drawing {
      grid-area: 2 / 1 / 3 / 3;
    }
    .figures {
      grid-area: 1 / 2;
    }
  }
  .name {
    display: grid;
    grid-template-columns: auto 1fr;
    column-gap: var(--space-4);
    align-items: baseline;
  }
  .title {
    font-weight: 550;
  }
  .bounds {
    grid-column: 2;
    font-size: var(--type-small);
    color: var(--soft);
  }
  svg {
    display: block;
  }
  .band {
    fill: var(--band);
    stroke: var(--rule);
    stroke-width: 0.5;
  }
  .axis,
  .tick {
    stroke: var(--soft);
    stroke-width: 0.8;
  }
  .scale {
    font: 9px var(--figures);
    fill: var(--soft);
    text-anchor: middle;
  }
  .bracket {
    fill: none;
    stroke: var(--ink);
    stroke-width: 1.6;
  }
  .wedge {
    fill: var(--inside);
  }
  .wedge.near {
    fill: var(--near);
  }
  .wedge.over,
  .wedge.under {
    fill: var(--outside);
  }
  .wedge.expected {
    fill: var(--sheet);
    stroke: currentColor;
    stroke-width: 1.3;
    stroke-dasharray: 2 1.4;
    color: var(--inside);
  }
  .wedge.expected.near {
    color: var(--near);
  }
  .wedge.expected.over,
  .wedge.expected.under {
    color: var(--outside);
  }
  .dashed {
    text-decoration: underline dashed 1px;
    text-underline-offset: 3px;
  }
  .wedge.before {
    fill: none;
    stroke: var(--soft);
    stroke-width: 1.2;
  }
  .figures {
    font-family: var(--figures);
    text-align: right;
    white-space: nowrap;
  }
  .was {
    color: var(--soft);
    font-size: var(--type-small);
  }
  .arrow {
    color: var(--soft);
    padding: 0 var(--space-2);
  }
  .unit {
    color: var(--soft);
    font-size: var(--type-small);
    padding-left: var(--space-2);
  }
  .value.over,
  .value.under,
  .distance.over,
  .distance.under {
    color: var(--outside);
  }
  .value.near,
  .distance.near {
    color: var(--near);
  }
  .distance {
    font-family: var(--words);
    font-size: var(--type-small);
    color: var(--soft);
    text-align: right;
  }
  button.value {
    border: 0;
    border-bottom: 1px dotted currentColor;
    background: none;
    padding: 0;
    cursor: pointer;
  }
</style>
