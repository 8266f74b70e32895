<script lang="ts">
  // One step looked at closely: why it is there, all it can be set to, its list, and what can be done with it.
  import { createQuery } from '@tanstack/svelte-query';
  import type { OfferedStep, ReadStep } from '../lib/api';
  import type { Span } from '../lib/ribbon-view.svelte';
  import { withEntry, withoutEntry } from '../lib/settings';
  import * as drafts from '../lib/server/drafts';
  import LinkButton from './LinkButton.svelte';
  import StepPicture from './StepPicture.svelte';
  import StepSentence from './StepSentence.svelte';
  interface Props {
    recordingId: string;
    /** The state of the draft that the step is part of. */
    state: number;
    step: ReadStep;
    number: number;
    count: number;
    offered: OfferedStep | undefined;
    selection: Span | undefined;
    onset: (path: string, value: unknown) => Promise<void>;
    onsets: (values: Record<string, number>) => void;
    onmove: (to: number) => void;
    onturn: () => void;
    onduplicate: () => void;
    onremove: () => void;
    ongo: (span: Span) => void;
  }
  let {
    recordingId,
    state,
    step,
    number,
    count,
    offered,
    selection,
    onset,
    onsets,
    onmove,
    onturn,
    onduplicate,
    onremove,
    ongo,
  }: Props = $props();
  const reading = $derived(step.reading);
  const settings = $derived((step.settings ?? {}) as Record<string, unknown>);
  const list = $derived(reading.list_of ?? '');
  const inTime = $derived(offered?.entry !== null && offered?.entry !== undefined && 'start_s' in offered.entry);

  const pictures = createQuery(() => ({
    ...drafts.pictures(recordingId, step.id, state),
    enabled: reading.problems?.length === 0,
  }));
  const drawn = $derived(pictures.data?.of === step.id ? pictures.data.drawn : []);

  /** A new entry lies where something is selected, where the list is one of spans. */
  function addEntry(): void {
    const place = inTime && selection ? { start_s: round(selection.from), end_s: round(selection.to) } : {};
    onset(list, withEntry(settings, list, { ...offered?.entry, ...place }));
  }
  const round = (seconds: number) => Math.round(seconds * 1000) / 1000;
  function spanOf(path: string): Span | undefined {
    const entry = (settings[list] as { start_s?: number; end_s?: number }[] | undefined)?.[Number(path.split('.')[1])];
    return entry?.start_s !== undefined && entry.end_s !== undefined
      ? { from: entry.start_s, to: entry.end_s }
      : undefined;
  }
</script>

<div class="detail">
  {#if offered?.purpose}<p class="soft">{offered.purpose}</p>{/if}
  {#if step.reason}<p><b>Why:</b> {step.reason}</p>{/if}
  <p class="sentence"><StepSentence {step} pieces={reading.pieces} {onset} /></p>
  <p class="soft" role="status">{pictures.isError && !drawn.length ? pictures.error.message : ''}</p>
  {#each drawn as picture, index (index)}<StepPicture
      {picture}
      onset={onsets}
      onadd={(entry) => onset(list, withEntry(settings, list, entry))}
    />{/each}
  {#if reading.further?.length}<p class="sentence further">
      <StepSentence {step} pieces={reading.further} {onset} />
    </p>{/if}
  {#if list}
    <ol>
      {#each reading.entries ?? [] as entry (entry.path)}
        {@const span = spanOf(entry.path)}
        <li class="sentence">
          <StepSentence {step} pieces={entry.pieces} {onset} />
          <span class="acts">
            {#if span}<LinkButton onclick={() => ongo(span)}>Go there</LinkButton>{/if}
            <LinkButton onclick={() => onset(list, withoutEntry(settings, entry.path))}>Remove</LinkButton>
          </span>
        </li>
      {/each}
    </ol>
    <p>
      <LinkButton onclick={addEntry} disabled={inTime && !selection}
        >{inTime ? 'Add the selection' : 'Add one'}</LinkButton
      >
      {#if inTime && !selection}<span class="soft">Select a spot on the ribbon first.</span>{/if}
    </p>
  {/if}
  <p class="acts">
    <LinkButton onclick={() => onmove(number - 2)} disabled={number === 1}>Move up</LinkButton>
    <LinkButton onclick={() => onmove(number)} disabled={number === count}>Move down</LinkButton>
    <LinkButton onclick={onturn}>{step.on ? 'Switch off' : 'Switch on'}</LinkButton>
    <LinkButton onclick={onduplicate}>Duplicate</LinkButton>
    <LinkButton onclick={onremove}>Remove</LinkButton>
  </p>
</div>

<style>
  .detail {
    display: grid;
    grid-template-columns: minmax(0, 1fr);
    gap: var(--space-4);
    padding: var(--space-5) var(--space-5) var(--space-5);
    font-size: var(--type-plain);
  }
  .sentence {
    font-size: var(--type-text);
    line-height: 1.75;
  }
  .further {
    font-size: var(--type-plain);
  }
  b {
    font-weight: 600;
  }
  ol {
    margin: 0;
    padding-left: var(--space-7);
  }
  .acts {
    display: inline-flex;
    flex-wrap: wrap;
    gap: var(--space-3) var(--space-6);
    font-size: var(--type-plain);
  }
  li .acts {
    padding-left: var(--space-5);
    gap: var(--space-5);
  }
</style>
