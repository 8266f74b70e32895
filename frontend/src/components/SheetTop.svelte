<script lang="ts">
  // The head of a sheet: what the production is called, what it is held against, where it stands, and the ways on from here.
  import type { SheetView as Sheet } from '../lib/api';
  import type { Dropped } from '../lib/dropped';
  import type { SheetActs } from '../lib/sheet-acts.svelte';
  import Choice from './Choice.svelte';
  import FileButton from './FileButton.svelte';
  import NameHeading from './NameHeading.svelte';
  interface Props {
    sheet: Sheet;
    /** What a production can be held against. */
    specifications: { id: string; name: string }[];
    acts: SheetActs;
    renaming: boolean;
    onadd: (dropped: Dropped) => void;
  }
  let { sheet, specifications, acts, renaming = $bindable(), onadd }: Props = $props();
  // One that was removed since is still what this production uses.
  const held = $derived(sheet.specification);
  const choices = $derived(
    specifications.some(({ id }) => id === held.id) ? specifications : [...specifications, held],
  );
  const at = $derived(`#/productions/${sheet.id}`);
</script>

<div class="top">
  <NameHeading
    name={sheet.name}
    label="Name of the production"
    bind:renaming
    onrename={(name) => acts.change({ name })}
  />
  <div class="acts">
    <Choice
      label="Specification"
      value={held.id}
      options={choices.map(({ id, name }) => [id, name])}
      onchange={(to) => {
        const chosen = choices.find(({ id }) => id === to);
        if (chosen) void acts.changeSpecification(chosen, held);
      }}
    />
    <a href={`${at}/take-check`}>Take check</a>
    {#if sheet.measured > 1}
      <a href={`${at}/consistency`}>Consistency</a>
      <a href={`${at}/whole${sheet.reference ? `?like=${sheet.reference}` : ''}`}>Conform all…</a>
    {/if}
    {#if sheet.measured}<a href={`${at}/deliver`}>Deliver…</a>{/if}
    <a href={`${at}/record`}>Record</a>
    <FileButton label="Folder to add" folder onchosen={onadd}>Add folder</FileButton>
    <FileButton label="Recordings to add" strong multiple onchosen={onadd}>Add recordings</FileButton>
  </div>
</div>

<style>
  .top {
    flex-wrap: wrap;
    display: flex;
    justify-content: space-between;
    align-items: end;
    gap: var(--space-7);
    margin-bottom: var(--space-2);
  }
  .acts {
    flex-wrap: wrap;
    display: flex;
    gap: var(--space-6);
    align-items: end;
  }
  @media print {
    .acts {
      display: none;
    }
  }
</style>
