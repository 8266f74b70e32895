<script lang="ts">
  // The production as a whole: how far its recordings differ, judged where the specification limits that.
  import type { LimitVerdict, Spread } from '../lib/api';
  import { clock, counted, number } from '../lib/format';
  import { quantity as about } from '../lib/quantities';
  import LimitCell from './LimitCell.svelte';
  interface Props {
    quantities: string[];
    whole: LimitVerdict[];
    spreads: Spread[];
  }
  let { quantities, whole, spreads }: Props = $props();
  const shown = (spread: Spread) =>
    about(spread.quantity).clock ? clock(spread.spread) : number(spread.spread, spread.decimals);
</script>

<tfoot>
  <tr>
    <th scope="row" class="first">The whole production<span class="facts">spread between recordings</span></th>
    <td></td>
    {#each quantities as quantity (quantity)}
      {@const limit = whole.find((found) => found.quantity === quantity)}
      {@const spread = spreads.find((found) => found.quantity === quantity)}
      <td>
        {#if limit}<LimitCell {limit} />
        {:else if spread}
          <span
            class="spread"
            data-said={`${spread.title}: ${shown(spread)} ${about(spread.quantity).clock ? '' : spread.difference_unit} from lowest to highest; ${counted(spread.outliers.length, 'outlier')}`}
            >{shown(spread)}</span
          ><span class="figure-title" aria-hidden="true">{spread.title}</span>
        {/if}
        {#if spread?.outliers.length}<span class="apart">{counted(spread.outliers.length, 'outlier')}</span>{/if}
      </td>
    {/each}
    <td></td>
  </tr>
</tfoot>

<style>
  th,
  td {
    border-top: 2px solid var(--ink);
    border-bottom: 0;
  }
  .facts,
  .apart {
    display: block;
    font-size: var(--type-fine);
    color: var(--soft);
  }
  .spread {
    font-family: var(--figures);
    font-size: var(--type-plain);
    color: var(--soft);
    padding-left: var(--space-8);
  }
  .apart {
    padding-left: var(--space-8);
    color: var(--near);
  }
  @media screen and (max-width: 640px) {
    .spread,
    .apart {
      padding-left: 0;
    }
    .figure-title {
      margin-left: var(--space-3);
    }
  }
</style>
