<script lang="ts">
  // The table of a sheet: recordings by limits, drawn some at a time, and the production as a whole in the last row.
  import Across from './Across.svelte';
  import type { SheetEntry, SheetView as Sheet } from '../lib/api';
  import { cellKeys } from '../lib/cell-keys';
  import type { Column } from '../lib/columns';
  import type { SheetActs } from '../lib/sheet-acts.svelte';
  import type { SheetView } from '../lib/sheet-view.svelte';
  import IncomingRows from './IncomingRows.svelte';
  import SheetBlock from './SheetBlock.svelte';
  import SheetFoot from './SheetFoot.svelte';
  import SheetHead from './SheetHead.svelte';
  import SheetRow from './SheetRow.svelte';
  interface Props {
    sheet: Sheet;
    shown: SheetEntry[];
    columns: Column[];
    view: SheetView;
    acts: SheetActs;
    /** Whether rows can be put in another order. */
    movable: boolean;
    ontold: (statement: string, focused: boolean) => void;
  }
  let { sheet, shown, columns, view, acts, movable, ontold }: Props = $props();
  const pointedAt = cellKeys((statement, focused) => ontold(statement, focused));
  const BLOCK = 40;
  const blocks = $derived(
    Array.from({ length: Math.ceil(shown.length / BLOCK) }, (_, at) => shown.slice(at * BLOCK, (at + 1) * BLOCK)),
  );

  // Rows are put in order by dragging their handle, or by the arrow keys on it.
  let carried = $state('');
  const indexOf = (id: string) => sheet.entries.findIndex((entry) => entry.id === id);
  async function move(id: string, to: number) {
    await acts.move(sheet.entries, id, to);
    document.querySelector<HTMLElement>(`[data-handle="${id}"]`)?.focus();
  }
</script>

<Across label="Inspection sheet, scrolls sideways">
  <table role="grid" {@attach pointedAt}>
    <caption class="visually-hidden">Inspection sheet of {sheet.name}</caption>
    <SheetHead {columns} {view} {shown} />
    {#each blocks as entries, at (at)}
      <SheetBlock
        count={entries.length}
        columns={columns.length + 3}
        first={at === 0}
        held={entries.some((entry) => entry.id === carried)}
      >
        {#each entries as entry (entry.id)}
          <SheetRow
            {entry}
            production={sheet.id}
            {columns}
            acting={acts}
            chosen={view.chosen.has(entry.id)}
            onchosen={(wanted, span) => view.choose(shown, entry.id, wanted, span)}
            {movable}
            reference={entry.id === sheet.reference}
            {carried}
            oncarry={(id) => (carried = id)}
            ondropped={() => move(carried, indexOf(entry.id))}
            onstep={(step) => move(entry.id, indexOf(entry.id) + step)}
          />
        {/each}
      </SheetBlock>
    {/each}
    <IncomingRows production={sheet.id} columns={columns.length + 1} acting={acts} />
    {#if sheet.whole.length || sheet.spreads.length}
      <SheetFoot
        quantities={columns.map((column) => column.limit.quantity)}
        whole={sheet.whole}
        spreads={sheet.spreads}
      />
    {/if}
  </table>
</Across>

<style>
  table {
    width: 100%;
    border-collapse: collapse;
    background: var(--sheet);
    border: 1px solid var(--rule);
  }
  table :global(:is(th, td)) {
    text-align: left;
    padding: var(--space-4) var(--space-4);
    border-bottom: 1px solid var(--rule);
    vertical-align: middle;
    font-weight: 400;
  }
  table :global(.first) {
    padding-left: var(--space-5);
    min-width: 226px;
  }
  table :global(.figure-title) {
    display: none;
    white-space: normal;
    font-size: var(--type-fine);
    line-height: 1.2;
    color: var(--soft);
  }
  @media (max-width: 1240px) {
    table :global(:is(th, td)) {
      padding: var(--space-4) var(--space-2);
    }
    table :global(.first) {
      min-width: 130px;
      padding-left: var(--space-4);
    }
    table :global(td > svg) {
      width: 84px;
    }
  }
  /* On a phone each recording is a block: its name, its level and verdict, and its readings by their names, two abreast. */
  @media screen and (max-width: 640px) {
    table,
    table :global(:is(thead, tbody, tfoot)) {
      display: block;
    }
    table :global(tr) {
      display: grid;
      grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
      align-items: center;
      padding: var(--space-3) 0;
      border-bottom: 1px solid var(--rule);
    }
    table :global(:is(th, td)) {
      display: block;
      min-width: 0;
      padding: var(--space-2) var(--space-4);
      border: 0;
    }
    table :global(:is(.first, td[colspan])) {
      grid-column: 1 / -1;
    }
    table :global(:is(td:empty, .ribbon-head)) {
      display: none;
    }
    table :global(.figure-title) {
      display: inline;
    }
  }
</style>
