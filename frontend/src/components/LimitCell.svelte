<script lang="ts">
  // One reading in the sheet: bracket mark and figure.
  import type { LimitVerdict } from '../lib/api';
  import { bounds, distance, reading, unit } from '../lib/format';
  import BracketMark from './BracketMark.svelte';
  let { limit }: { limit: LimitVerdict } = $props();
  const high = $derived(
    limit.high !== null &&
      typeof limit.reading === 'number' &&
      (limit.low === null || limit.high - limit.reading < limit.reading - limit.low),
  );
  const said = $derived(`${limit.title} ${reading(limit, 1)} ${unit(limit)}; ${bounds(limit)}; ${distance(limit)}`);
</script>

<span class={`cell ${limit.position}`} title={said}>
  <BracketMark position={limit.position} {high} size={13} /><span class="figure">{reading(limit)}</span>
</span>

<style>
  .cell {
    display: inline-flex;
    gap: 4px;
    align-items: center;
    white-space: nowrap;
  }
  .figure {
    font-family: var(--figures);
    font-size: 13.5px;
  }
  .over,
  .under {
    color: var(--outside);
  }
  .near {
    color: var(--near);
  }
</style>
