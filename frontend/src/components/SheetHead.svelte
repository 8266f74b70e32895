<script lang="ts">
  // The headings of the sheet: each limit with its bounds, what it means, and a way to sort by it.
  import type { SheetEntry } from '../lib/api';
  import type { Column } from '../lib/columns';
  import { bounds } from '../lib/format';
  import type { SheetView } from '../lib/sheet-view.svelte';
  import Explained from './Explained.svelte';
  import SortButton from './SortButton.svelte';
  interface Props {
    columns: Column[];
    view: SheetView;
    shown: SheetEntry[];
  }
  let { columns, view, shown }: Props = $props();
  const all = $derived(shown.length > 0 && shown.every((row) => view.chosen.has(row.id)));
</script>

{#snippet sorter(by: string, title: string)}
  <SortButton {title} direction={view.direction(by)} onsort={() => view.sort(by)} />
{/snippet}

<thead>
  <tr>
    <th scope="col" class="first" aria-sort={view.direction('name')}>
      <input
        type="checkbox"
        aria-label="Select all"
        checked={all}
        indeterminate={!all && view.chosen.size > 0}
        onchange={(event) => view.chooseAll(shown, event.currentTarget.checked)}
      />
      Recording {@render sorter('name', 'name')}
    </th>
    <th scope="col" class="ribbon-head">Level over time</th>
    {#each columns as column (column.limit.quantity)}
      <th scope="col" aria-sort={view.direction(column.limit.quantity)}>
        <span class="together"
          ><Explained text={column.title} method={column.method} />
          {@render sorter(column.limit.quantity, column.title)}</span
        >
        <span class="bounds"
          >{column.limit.applies_to === 'production'
            ? 'same in all'
            : bounds({
                ...column.limit,
                low: column.limit.low ?? null,
                high: column.limit.high ?? null,
                unit: column.unit,
              })}</span
        >
      </th>
    {/each}
    <th scope="col" aria-sort={view.direction('status')}>Verdict {@render sorter('status', 'verdict')}</th>
  </tr>
</thead>

<style>
  th {
    font-size: var(--type-small);
    color: var(--ink);
    font-weight: 550;
    vertical-align: bottom;
    line-height: 1.3;
  }
  .together {
    white-space: nowrap;
  }
  .bounds {
    display: block;
    font-size: var(--type-fine);
    font-weight: 400;
    color: var(--soft);
  }
  input {
    margin: 0 var(--space-2) 0 0;
    vertical-align: -2px;
  }
</style>
