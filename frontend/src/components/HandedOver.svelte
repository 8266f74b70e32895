<script lang="ts">
  // Packages that were handed over, the newest first: when, how many files, where to.
  import type { Acting } from '../lib/acting.svelte';
  import type { DeliveryNote } from '../lib/api';
  import { counted, date, size } from '../lib/format';
  import { underWay } from '../lib/works';
  import BracketMark from './BracketMark.svelte';
  import DeskReport from './DeskReport.svelte';
  import SheetList from './SheetList.svelte';
  import UnderWay from './UnderWay.svelte';
  let { notes, acting }: { notes: DeliveryNote[]; acting: Acting } = $props();
</script>

<section aria-label="Handed over">
  <h2>Handed over</h2>
  <SheetList>
    {#each notes as note (note.id)}
      {@const work = underWay(note.work)}
      <li>
        <span class="when">{date(note.done_at ?? note.created_at)}</span>
        <span>{counted(note.files, 'file')}, {size(note.size_bytes)}</span>
        <span class="place">{note.requirements ? `intake desk, ${note.requirements}` : note.place}</span>
        {#if work}
          <UnderWay {work} about="the package" {acting} />
        {:else if note.answer}
          <span class:wrong={!note.answer.accepted}
            ><BracketMark position={note.answer.accepted ? 'inside' : 'over'} silent />
            {note.answer.accepted
              ? 'Accepted'
              : `${note.answer.files.filter((file) => file.accepted).length} of ${counted(note.answer.files.length, 'file')} accepted`}</span
          >
        {:else if note.done_at}
          <span><BracketMark position="inside" silent /> Written</span>
        {:else}
          <span class="wrong">{note.work?.error ?? 'Cancelled; no files were left behind.'}</span>
        {/if}
        {#if note.answer}<DeskReport answer={note.answer} />{/if}
      </li>
    {/each}
  </SheetList>
</section>

<style>
  section {
    margin-top: var(--space-6);
  }
  li {
    display: grid;
    grid-template-columns: 190px 150px 1fr 230px;
    gap: var(--space-5);
    align-items: baseline;
  }
  .when {
    color: var(--soft);
  }
  .place {
    font-family: var(--figures);
    font-size: var(--type-small);
    overflow-wrap: anywhere;
  }
  .wrong {
    color: var(--outside);
  }
</style>
