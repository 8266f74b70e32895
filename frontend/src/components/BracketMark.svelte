<script lang="ts">
  // Where a reading stands to its limit, as a small mark: inside, over, under, near a bound, or not measured.
  import type { LimitVerdict } from '../lib/api';
  interface Props {
    position: LimitVerdict['position'];
    /** For "near": whether it is the upper bound that is near. */
    high?: boolean;
    /** Its colour, where that is not the position's own. */
    tone?: LimitVerdict['position'];
    size?: number;
    /** Where a word beside the mark says the same already. */
    silent?: boolean;
  }
  let { position, high = true, tone = position, size = 14, silent = false }: Props = $props();

  const WORDS = {
    inside: 'inside',
    near: 'close to the limit',
    over: 'over',
    under: 'under',
    unmeasured: 'not measured',
  };
  const left = $derived(position !== 'near' || !high);
  const right = $derived(position !== 'near' || high);
  const dot = $derived({ inside: 16, near: high ? 19 : 13, over: 29, under: 3, unmeasured: 0 }[position]);
</script>

<svg
  class={tone}
  viewBox="0 0 32 16"
  height={size}
  width={size * 2}
  role={silent ? 'presentation' : 'img'}
  aria-label={silent ? undefined : WORDS[position]}
  aria-hidden={silent}
>
  {#if left}<path d="M11 2.5H8v11h3" />{/if}
  {#if right}<path d="M21 2.5h3v11h-3" />{/if}
  {#if dot}<circle cx={dot} cy="8" r="2.6" />{/if}
  {#if position === 'unmeasured'}<path class="hatch" d="M12 12l4-8M15 12l4-8" />{/if}
</svg>

<style>
  svg {
    flex: none;
    vertical-align: -2px;
    color: var(--inside);
  }
  path {
    fill: none;
    stroke: currentColor;
    stroke-width: 1.8;
  }
  circle {
    fill: currentColor;
  }
  .hatch {
    stroke-width: 1;
  }
  .near {
    color: var(--near);
  }
  .over,
  .under {
    color: var(--outside);
  }
  .unmeasured {
    color: color-mix(in srgb, var(--ink) 45%, var(--sheet));
  }
</style>
