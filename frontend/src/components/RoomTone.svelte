<script lang="ts">
  // Where the room tone is, how it sounds beside the voice, and choosing it by hand: what that would change, before it does.
  import { createQuery } from '@tanstack/svelte-query';
  import type { Inspection } from '../lib/api';
  import { clock, counted, distance, number } from '../lib/format';
  import { Resting } from '../lib/resting.svelte';
  import type { Span } from '../lib/ribbon-view.svelte';
  import * as recordings from '../lib/server/recordings';
  import Button from './Button.svelte';
  import LinkButton from './LinkButton.svelte';
  import SpectrumPanel from './SpectrumPanel.svelte';
  interface Props {
    recordingId: string;
    /** Whether a person said where it is. */
    byHand: boolean;
    inspection: Inspection;
    selection?: Span;
    onchoose: (span: { start_s: number; end_s: number } | null) => void;
    ongo: (span: Span) => void;
  }
  let { recordingId, byHand, inspection, selection, onchoose, ongo }: Props = $props();
  const spans = $derived(inspection.room_tone);
  const total = $derived(spans.reduce((sum, span) => sum + span.end_s - span.start_s, 0));
  const exact = (seconds: number) => clock(seconds, 2);
  const resting = new Resting(() => selection, 150);
  const look = createQuery(() => recordings.roomTone(recordingId, byHand, resting));
  const seen = $derived(resting.span && look.data ? look.data : undefined);
  const spoken = $derived(
    seen !== undefined &&
      inspection.speech.some((span) => span.start_s < seen.span.end_s && span.end_s > seen.span.start_s),
  );
  const figure = (value: number | null | undefined, unit: string) =>
    value == null ? 'silence' : `${number(value, 1)} ${unit}`;
  const CHANGED = [
    ['noise_floor_dbfs', 'Noise floor'],
    ['signal_to_noise_db', 'Signal to noise'],
  ] as const;
</script>

<div class="tone">
  {#if byHand && spans[0]}
    <p>
      Room tone set manually:
      <LinkButton onclick={() => ongo({ from: spans[0]?.start_s ?? 0, to: spans[0]?.end_s ?? 0 })}
        >{exact(spans[0].start_s)} to {exact(spans[0].end_s)}</LinkButton
      >.
      <LinkButton onclick={() => onchoose(null)}>Detect automatically</LinkButton>
    </p>
  {:else if spans.length}
    <p>Room tone detected in {counted(spans.length, 'place')} ({number(total, 1)} s in total).</p>
  {:else}
    <p>No room tone detected. Select a silent stretch on the ribbon to set it.</p>
  {/if}
  {#if resting.span}
    <div class="look" role="group" aria-label="The selection as room tone">
      {#if look.isError}
        <p>{look.error.message}</p>
      {:else if seen}
        <dl>
          {#each CHANGED as [quantity, title] (quantity)}
            {@const limit = seen.limits.find((each) => each.after.quantity === quantity)}
            <div>
              <dt>{title}</dt>
              <dd>
                {figure(seen.was[quantity]?.value, seen.was[quantity]?.unit ?? '')}
                <span aria-hidden="true">→</span><span class="visually-hidden">would become</span>
                <b>{figure(seen.changed[quantity]?.value, seen.changed[quantity]?.unit ?? '')}</b>
                {#if limit}<span class:outside={!limit.after.passes}>{distance(limit.after)}</span>{/if}
              </dd>
            </div>
          {/each}
        </dl>
        {#if spoken}<p class="outside">Someone speaks in this selection.</p>{/if}
        <Button onclick={() => onchoose(seen.span)}>Use the selection as room tone</Button>
      {/if}
    </div>
  {:else}
    <p class="hint">Select a pause on the ribbon to try it as room tone.</p>
  {/if}
</div>
{#if inspection.spectrum}<SpectrumPanel spectrum={inspection.spectrum} chosen={seen?.spectrum_dbfs} />{/if}

<style>
  .tone {
    padding: var(--space-4) var(--space-5) var(--space-1);
    font-size: var(--type-plain);
  }
  .look {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-4) var(--space-7);
    align-items: center;
    padding: var(--space-3) 0;
  }
  dl {
    margin: 0;
  }
  dl div {
    display: flex;
    gap: var(--space-4);
  }
  dt {
    color: var(--soft);
    min-width: 118px;
  }
  dd {
    margin: 0;
    font-family: var(--figures);
    font-size: var(--type-small);
  }
  b {
    font-weight: 600;
  }
  .outside {
    color: var(--outside);
  }
  .hint {
    color: var(--soft);
  }
</style>
