<script lang="ts">
  // The tolerance rule as print has it: what is allowed between brackets, the reading as a wedge.
  import type { LimitVerdict } from '../lib/api';
  import { tone } from '../lib/format';
  let { limit }: { limit: LimitVerdict } = $props();
  const WIDTH = 150;
  const COARSE = ['Hz', 'kbit/s', '%'];
  const value = $derived(typeof limit.reading === 'number' ? limit.reading : undefined);
  const drawn = $derived(
    value !== undefined && !COARSE.includes(limit.difference_unit) && (limit.unit !== '' || limit.decimals > 0),
  );
  const x = $derived.by(() => {
    const known = [limit.low, limit.high, value].filter((one): one is number => typeof one === 'number');
    const least = Math.min(...known);
    const span = Math.max(Math.max(...known) - least, 1);
    const first = least - span * (limit.low === null ? 0.35 : 0.15);
    const last = Math.max(...known) + span * (limit.high === null ? 0.35 : 0.15);
    return (at: number) => (WIDTH * (at - first)) / (last - first);
  });
</script>

{#if drawn && value !== undefined}
  <svg width={WIDTH} height="14" viewBox={`0 0 ${WIDTH} 14`} class={tone(limit)} aria-hidden="true">
    <path class="line" d={`M0 10H${WIDTH}`} />
    {#if limit.low !== null}<path class="bracket" d={`M${x(limit.low) + 3} 2h-3v11h3`} />{/if}
    {#if limit.high !== null}<path class="bracket" d={`M${x(limit.high) - 3} 2h3v11h-3`} />{/if}
    <path class="wedge" d={`M${x(value)} 10l-3 -6h6z`} />
  </svg>
{/if}

<style>
  path {
    fill: none;
  }
  .line {
    stroke: var(--soft);
    stroke-width: 0.6;
  }
  .bracket {
    stroke: var(--ink);
    stroke-width: 1.2;
  }
  .wedge {
    fill: var(--inside);
  }
  .near .wedge {
    fill: var(--near);
  }
  :is(.over, .under) .wedge {
    fill: var(--outside);
  }
</style>
