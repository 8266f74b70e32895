<script lang="ts">
  // Which rows of a sheet are shown; and what is done to the production less often.
  import type { SheetView as Sheet } from '../lib/api';
  import { counted } from '../lib/format';
  import type { SheetActs } from '../lib/sheet-acts.svelte';
  import type { SheetView } from '../lib/sheet-view.svelte';
  import LinkButton from './LinkButton.svelte';
  import Question from './Question.svelte';
  interface Props {
    sheet: Sheet;
    view: SheetView;
    /** What can be shown alone, and what is. */
    filters: (readonly [string, string])[];
    show: string;
    /** How many rows are shown. */
    count: number;
    acts: SheetActs;
    onrename: () => void;
    /** Notes are written; nothing where they are there already. */
    onnote?: () => void;
    ondisk: () => void;
  }
  let { sheet, view, filters, show, count, acts, onrename, onnote, ondisk }: Props = $props();
  const all = $derived(sheet.entries.length);
  let removing: HTMLDialogElement | undefined = $state();
  /** Whether the acts are shown where there is little room. */
  let more = $state(false);
</script>

<div class="tools">
  {#if all > 1}
    <label class="find">Find <input type="search" bind:value={view.search} maxlength="120" /></label>
    <label class="find"
      >Show
      <select value={show} onchange={(event) => (view.show = event.currentTarget.value)}>
        {#each filters as [key, words] (key)}<option value={key}>{words}</option>{/each}
      </select></label
    >
    <span class="soft" role="status">{count < all ? `${count} of ${all} shown` : ''}</span>
  {/if}
  <span class="more"><LinkButton expanded={more} onclick={() => (more = !more)}>More</LinkButton></span>
  <span class="links" class:more-shown={more}>
    <LinkButton onclick={onrename}>Rename</LinkButton>
    {#if onnote}<LinkButton onclick={onnote}>Add notes</LinkButton>{/if}
    {#if !sheet.archived && !sheet.removed}
      <LinkButton label="Hide production" onclick={() => acts.change({ archived: true })}>Hide</LinkButton>
    {/if}
    {#if !sheet.removed}
      <LinkButton label="Remove production" onclick={() => removing?.showModal()}>Remove</LinkButton>
    {/if}
    {#if all > 1}<LinkButton onclick={() => acts.orderByName()}>Reorder by name</LinkButton>{/if}
    <a href={`#/specifications/${sheet.specification.id}`}>View specification</a>
    {#if all}
      <LinkButton onclick={ondisk}>Disk use</LinkButton>
      <a href={`/api/productions/${sheet.id}/sheet.csv`} download>Sheet as CSV</a>
      <a href={`/api/productions/${sheet.id}/sheet.pdf`} download>Sheet as PDF</a>
    {/if}
  </span>
</div>
<Question
  bind:element={removing}
  title={`Remove ${sheet.name}`}
  meaning={`${counted(all, 'recording')} and everything made from them are removed with it. You can restore it under Removed, on the productions page; certificates that were handed out stay valid.`}
  act="Remove production"
  onact={() => {
    removing?.close();
    void acts.removeProduction();
  }}
/>

<style>
  .tools {
    flex-wrap: wrap;
    display: flex;
    gap: var(--space-6);
    align-items: baseline;
    font-size: var(--type-small);
    margin: var(--space-4) 0;
  }
  .links {
    align-items: baseline;
    flex-wrap: wrap;
    display: flex;
    gap: var(--space-6);
    margin-left: auto;
  }
  .more {
    display: none;
  }
  @media screen and (max-width: 640px) {
    .more {
      display: inline;
    }
    .links:not(.more-shown) {
      display: none;
    }
    .links {
      margin-left: 0;
    }
  }
  .find {
    display: flex;
    gap: var(--space-3);
    align-items: baseline;
    color: var(--soft);
  }
  .find :is(input, select) {
    font: inherit;
    color: var(--ink);
    background: var(--sheet);
    border: 1px solid var(--soft);
    border-radius: 3px;
    padding: var(--space-1) var(--space-3);
  }
  .find select {
    max-width: 166px;
  }
  .find input {
    width: 150px;
  }
  @media print {
    .tools {
      display: none;
    }
  }
</style>
