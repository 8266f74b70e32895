<script lang="ts">
  // What can be done to the selection alone: each becomes an entry of a step, to be heard, changed or removed there. What is
  // offered belongs to the selection as it is now, or is not offered.
  import { createQuery } from '@tanstack/svelte-query';
  import type { SpotOffer } from '../lib/api';
  import { Resting } from '../lib/resting.svelte';
  import type { Span } from '../lib/ribbon-view.svelte';
  import * as drafts from '../lib/server/drafts';
  import LinkButton from './LinkButton.svelte';
  interface Props {
    recordingId: string;
    selection: Span;
    onspot: (offer: SpotOffer) => void;
  }
  let { recordingId, selection, onspot }: Props = $props();
  const resting = new Resting(() => selection, 90);
  const found = createQuery(() => ({ ...drafts.spots(recordingId, resting), enabled: resting.some }));
</script>

<div role="group" aria-label="Work on the selection">
  <span class="soft">This spot only:</span>
  {#each found.data ?? [] as offer (offer.title + String(offer.entry.start_s))}
    <LinkButton disabled={!resting.current} onclick={() => onspot(offer)}>{offer.title}</LinkButton>
  {/each}
</div>

<style>
  div {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-2) var(--space-6);
    padding: var(--space-3) var(--space-5);
    background: var(--sheet);
    border: 1px solid var(--rule);
    border-top: 0;
    font-size: var(--type-plain);
  }
</style>
