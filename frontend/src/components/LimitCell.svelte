<script lang="ts">
  // One reading in the sheet: bracket mark and figure.
  import type { LimitVerdict } from '../lib/api';
  import { asked, distance, number, reading, tone, unit } from '../lib/format';
  import { quantity } from '../lib/quantities';
  import BracketMark from './BracketMark.svelte';
  interface Props {
    limit: LimitVerdict;
    /** How far it stands apart from the other recordings, where it does. */
    apart?: number;
  }
  let { limit, apart }: Props = $props();
  const high = $derived(
    limit.high !== null &&
      typeof limit.reading === 'number' &&
      (limit.low === null || limit.high - limit.reading < limit.reading - limit.low),
  );
  const standing = $derived(
    apart === undefined || quantity(limit.quantity).clock
      ? ''
      : `${number(Math.abs(apart), limit.decimals)} ${limit.difference_unit} ${apart > 0 ? 'above' : 'below'} the median recording`,
  );
  const figure = $derived(`${limit.title} ${reading(limit, 1)} ${unit(limit)}`.trim());
  const spread = $derived(limit.applies_to === 'production' ? ' from lowest to highest' : '');
  const said = $derived([figure + spread, asked(limit), distance(limit), standing].filter(Boolean).join('; '));
</script>

<span class={`cell ${tone(limit)}`} class:apart={apart !== undefined} data-said={said}>
  <BracketMark position={limit.position} tone={tone(limit)} {high} size={13} /><span class="figure"
    >{reading(limit)}</span
  ><span class="figure-title" aria-hidden="true">{limit.title}</span>
</span>

<style>
  .cell {
    display: inline-flex;
    gap: var(--space-2);
    align-items: center;
    white-space: nowrap;
  }
  .figure {
    font-family: var(--figures);
    font-size: var(--type-plain);
  }
  .apart .figure {
    border-bottom: 1.5px dotted currentColor;
  }
  .over,
  .under {
    color: var(--outside);
  }
  .near {
    color: var(--near);
  }
</style>
