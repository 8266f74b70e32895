<script lang="ts">
  // What can be done to the selection alone: each becomes an entry of a step, to be heard, changed or removed there.
  import { createQuery } from '@tanstack/svelte-query';
  import { answer, api, type SpotOffer } from '../lib/api';
  import type { Span } from '../lib/ribbon-view.svelte';
  import LinkButton from './LinkButton.svelte';
  interface Props {
    recordingId: string;
    selection: Span;
    onspot: (offer: SpotOffer) => void;
  }
  let { recordingId, selection, onspot }: Props = $props();
  let settled = $state<Span>();
  $effect(() => {
    const { from, to } = selection;
    const timer = setTimeout(() => (settled = { from, to }), 90);
    return () => clearTimeout(timer);
  });
  const found = createQuery(() => ({
    queryKey: ['spots', recordingId, settled?.from, settled?.to],
    enabled: settled !== undefined && settled.to > settled.from,
    staleTime: Infinity,
    retry: false,
    queryFn: async () =>
      answer(
        await api.GET('/api/recordings/{recording_id}/spots', {
          params: {
            path: { recording_id: recordingId },
            query: { start_s: settled?.from ?? 0, end_s: settled?.to ?? 0 },
          },
        }),
      ),
  }));
  // What is offered belongs to the selection as it is now, or is not offered.
  const current = $derived(settled?.from === selection.from && settled.to === selection.to);
</script>

<div role="group" aria-label="Work on the selection">
  <span class="soft">This spot only:</span>
  {#each found.data ?? [] as offer (offer.title + String(offer.entry.start_s))}
    <LinkButton disabled={!current} onclick={() => onspot(offer)}>{offer.title}</LinkButton>
  {/each}
</div>

<style>
  div {
    display: flex;
    flex-wrap: wrap;
    gap: 4px 18px;
    padding: 7px 12px;
    background: var(--sheet);
    border: 1px solid var(--rule);
    border-top: 0;
    font-size: 13.5px;
  }
  .soft {
    color: var(--soft);
  }
</style>
