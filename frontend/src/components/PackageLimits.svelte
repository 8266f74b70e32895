<script lang="ts">
  // What a specification asks of a production as a whole: each limit with its mark, what it reads and what is meant.
  import type { LimitVerdict } from '../lib/api';
  import { asked, reading, tone, unit } from '../lib/format';
  import { quantity } from '../lib/quantities';
  import BracketMark from './BracketMark.svelte';
  interface Props {
    limits: LimitVerdict[];
    /** Those on how far recordings differ as well, which a sheet shows in its columns. */
    all?: boolean;
  }
  let { limits, all = false }: Props = $props();
  const shown = $derived(limits.filter((limit) => all || quantity(limit.quantity).of_package));
  const title = (limit: LimitVerdict) =>
    quantity(limit.quantity).of_package ? limit.title : `${limit.title}, between recordings`;
</script>

{#if shown.length}
  <ul aria-label="The package">
    {#each shown as limit (limit.quantity + limit.applies_to)}
      <li title={`Asked: ${asked(limit)}`}>
        <BracketMark position={limit.position} tone={tone(limit)} high={limit.reading !== limit.low} size={12} />
        {title(limit)}
        {#if limit.reading !== null && !(limit.note && !limit.passes)}<span class="figure">{reading(limit)}</span>
          <span class="soft">{quantity(limit.quantity).of_package ? unit(limit) : limit.difference_unit}</span>{/if}
        {#if limit.note && !limit.passes}<span class={limit.severity === 'must' ? 'outside' : 'near'}>{limit.note}</span
          >{/if}
      </li>
    {/each}
  </ul>
{/if}

<style>
  ul {
    list-style: none;
    margin: var(--space-4) 0;
    padding: var(--space-4) var(--space-5);
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-2) var(--space-7);
    background: var(--sheet);
    border: 1px solid var(--rule);
    font-size: var(--type-plain);
  }
  .figure {
    font-family: var(--figures);
    font-size: var(--type-small);
  }
  .outside {
    color: var(--outside);
  }
  .near {
    color: var(--near);
  }
</style>
