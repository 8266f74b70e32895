<script lang="ts">
  // What is left out of the recording and what stands there instead: done to the selection, at the playhead or to all pauses, heard
  // and taken back one by one.
  import { createQuery } from '@tanstack/svelte-query';
  import type { Acting } from '../lib/acting.svelte';
  import type { ChapterMark, EditsView, EditWish, LimitVerdict, Repeat, SplitAt } from '../lib/api';
  import type { Dropped } from '../lib/dropped';
  import { clock, counted, number } from '../lib/format';
  import type { Ends } from '../lib/handles';
  import type { Group, Place } from '../lib/places';
  import type { Span } from '../lib/ribbon-view.svelte';
  import * as editing from '../lib/server/editing';
  import { Snippet } from '../lib/snippet.svelte';
  import Button from './Button.svelte';
  import Chapters from './Chapters.svelte';
  import DropSection from './DropSection.svelte';
  import EditGroup from './EditGroup.svelte';
  import FileButton from './FileButton.svelte';
  import HeadAndTail from './HeadAndTail.svelte';
  import LinkButton from './LinkButton.svelte';
  import Misread from './Misread.svelte';
  import NoteTasks from './NoteTasks.svelte';
  import UnderWay from './UnderWay.svelte';
  import WrittenNumber from './WrittenNumber.svelte';
  interface Props {
    recordingId: string;
    /** What the sound that is shown is known by; empty while what it is now is measured. */
    knownAs: string;
    edits: EditsView | undefined;
    /** What was found, with the words that are read again among it. */
    groups: Group[];
    repeats: Repeat[];
    rate: number;
    problem: string;
    selection: Span | undefined;
    playhead: number;
    /** Where the words begin and end; undefined where nobody speaks. */
    ends: Ends | undefined;
    limits: LimitVerdict[];
    chapters: ChapterMark[];
    duration: number;
    onchapter: (at: number, title: string) => Promise<unknown>;
    onnamechapter: (chapter: string, title: string) => unknown;
    onremovechapter: (chapter: string) => unknown;
    ongo: (at: number) => void;
    onedit: (wish: EditWish) => unknown;
    onsplit: (at: SplitAt[]) => unknown;
    onjoin: () => unknown;
    onretake: (file: File, span: { start_s: number; end_s: number }) => unknown;
    acting: Acting;
    onundo: () => unknown;
    onredo: () => unknown;
    /** Hear it from a little before a place. */
    onhear: (at: number, to: number) => void;
    /** End what else plays. */
    onhush: () => void;
    /** Select a stretch on the ribbon. */
    onshow: (from: number, to: number) => void;
    /** Leave something in as it was read, with a reason, or have it proposed again. */
    onleave: (places: Place[], kind: string, reason: string) => unknown;
    onreturn: (places: Place[], kind: string) => unknown;
  }
  let {
    recordingId,
    knownAs,
    edits,
    groups,
    repeats,
    rate,
    problem,
    selection,
    playhead,
    ends,
    limits,
    chapters,
    duration,
    onchapter,
    onnamechapter,
    onremovechapter,
    ongo,
    onedit,
    onsplit,
    onjoin,
    onretake,
    acting,
    onundo,
    onredo,
    onhear,
    onhush,
    onshow,
    onleave,
    onreturn,
  }: Props = $props();

  let room = $state<number | string>(0.5);
  let longest = $state<number | string>(1.5);
  let shortest = $state<number | string>(0.6);
  let shortens = $state(true);
  let lengthens = $state(false);
  const exact = (seconds: number) => clock(seconds, 2);
  const figure = (value: number | string) =>
    typeof value === 'number' && value >= 0.05 && value <= 60 ? value : undefined;
  const span = $derived(selection && { start_s: selection.from, end_s: selection.to });
  const put = $derived(figure(room));
  const pauses = $derived.by((): EditWish | undefined => {
    const longest_s = shortens ? figure(longest) : null;
    const shortest_s = lengthens ? figure(shortest) : null;
    if (longest_s === undefined || shortest_s === undefined || (!shortens && !lengthens)) return undefined;
    return { what: 'pauses', longest_s, shortest_s, ...span };
  });
  /** As the file came in, without any edits. */
  const file = $derived(`/api/recordings/${recordingId}/file-sound`);
  const CONTEXT_S = 2;
  const snippet = new Snippet(() => onhush());
  $effect(() => () => snippet.stop());
  const take = ({ files: [first] }: Dropped) => {
    if (first) onretake(first, span ?? { start_s: playhead, end_s: playhead });
  };
  const foreseen = createQuery(() => editing.foreseen(recordingId, knownAs, knownAs ? pauses : undefined));
  const seen = $derived(knownAs && pauses && !foreseen.isError ? foreseen.data : undefined);
</script>

<DropSection label="Edits and retakes" ondropped={take}>
  {#if edits?.edits.length}
    <p>
      {counted(edits.edits.length, 'edit')}: {exact(edits.length_s)}, {edits.change} than the file. The file itself stays
      as it came in.
    </p>
  {:else}
    <p>Nothing is edited. The file itself always stays as it came in.</p>
  {/if}
  {#if edits?.undo || edits?.redo}
    <p class="line">
      {#if edits.undo}<Button onclick={onundo}>Undo edit</Button><span class="soft">{edits.undo}</span>{/if}
      {#if edits.redo}<Button onclick={onredo}>Redo edit</Button><span class="soft">{edits.redo}</span>{/if}
    </p>
  {/if}
  {#if snippet.problem}<p class="outside" role="alert">{snippet.problem}</p>{/if}
  {#if problem}<p class="outside" role="alert">{problem}</p>{/if}

  {#if knownAs}
    <Misread
      {recordingId}
      {knownAs}
      {repeats}
      {groups}
      {rate}
      {selection}
      {snippet}
      oncut={(spans) => onedit({ what: 'misread', spans })}
      {onshow}
      {onleave}
      {onreturn}
    />
  {/if}

  <EditGroup label="By hand">
    {#if span}
      <div class="line" role="group" aria-label="Edit the selection">
        <span class="soft">{exact(span.start_s)} to {exact(span.end_s)}:</span>
        <Button strong onclick={() => onedit({ what: 'cut', ...span })}>Cut out</Button>
        <Button onclick={() => onedit({ what: 'fill', ...span })}>Replace by room tone</Button>
      </div>
    {:else}
      <p class="soft">Select on the ribbon what is to be cut out or replaced by room tone.</p>
    {/if}
    <div class="line" role="group" aria-label="Put in room tone">
      <span
        >Put <WrittenNumber
          label="Seconds of room tone"
          value={room}
          quantity="head_s"
          invalid={put === undefined}
          onwritten={(to) => (room = to)}
        /> s of room tone in at {exact(playhead)}</span
      >
      <Button
        disabled={put === undefined}
        onclick={() => put !== undefined && onedit({ what: 'put-in', at_s: playhead, length_s: put })}>Put in</Button
      >
    </div>
    <div class="line">
      <FileButton label="Retake" accept="audio/*" onchosen={take}>Retake…</FileButton>
      <span class="soft"
        >or drop it here or on the ribbon. It {span ? 'replaces the selection' : 'is put in at the playhead'}, matched
        in level, tone and room.</span
      >
    </div>
    {#each edits?.coming ?? [] as coming (coming.id)}
      {#if coming.work?.state === 'failed'}<p class="outside" role="alert">{coming.work.error}</p>
      {:else if coming.work && coming.work.state !== 'cancelled'}
        <UnderWay work={coming.work} about={coming.name} waiting="Retake queued" {acting} />
      {/if}
    {/each}
    <div class="line" role="group" aria-label="Split and join">
      <Button disabled={playhead <= 0} onclick={() => onsplit([{ at_s: playhead, title: '' }])}
        >Split at {exact(playhead)}</Button
      >
      {#if edits?.next}<Button onclick={onjoin}>Join “{edits.next}”</Button>{/if}
      <span class="soft"
        >Split: the rest becomes a recording of its own behind this one.{edits?.next
          ? ' Join: the next one is put behind this, and leaves the production.'
          : ''}</span
      >
    </div>
  </EditGroup>
  <EditGroup label="Pauses" heading={`Pauses ${span ? 'in the selection' : 'between words'}`}>
    <label
      ><input type="checkbox" bind:checked={shortens} /> longer than
      <WrittenNumber
        label="Longest pause in seconds"
        value={longest}
        quantity="head_s"
        invalid={shortens && figure(longest) === undefined}
        onwritten={(to) => (longest = to)}
      /> s: shorten to that</label
    >
    <label
      ><input type="checkbox" bind:checked={lengthens} /> shorter than
      <WrittenNumber
        label="Shortest pause in seconds"
        value={shortest}
        quantity="head_s"
        invalid={lengthens && figure(shortest) === undefined}
        onwritten={(to) => (shortest = to)}
      /> s: lengthen to that with room tone</label
    >
    <div class="line">
      <Button disabled={!seen?.count} onclick={() => pauses && onedit(pauses)}>Set pauses</Button>
      <span class="soft" role="status">
        {#if foreseen.isError && pauses && knownAs}{foreseen.error.message}
        {:else if seen?.count}{counted(seen.count, 'pause')}, then {exact(seen.length_s)}, {seen.change}
        {:else if seen}No pause is like that.{/if}
      </span>
    </div>
  </EditGroup>

  {#if knownAs && ends}<HeadAndTail {ends} {limits} onset={(wish) => onedit({ what: 'ends', ...wish })} />{/if}
  {#if knownAs}
    <Chapters
      marks={chapters}
      {playhead}
      {duration}
      onadd={onchapter}
      onname={onnamechapter}
      onremove={onremovechapter}
      {ongo}
      {onsplit}
    />
  {/if}

  <NoteTasks {recordingId} {acting} {onhear} />

  {#if edits?.edits.length}
    <ol>
      {#each edits.edits as edit (edit.number)}
        <li>
          <span class="figure">{number(edit.number, 0)}</span>
          <span
            >{edit.told}{#if edit.take}<br /><span class="soft">{edit.take.name}: {edit.take.told}</span>{/if}</span
          >
          <LinkButton
            onclick={() =>
              snippet.playing === edit.number
                ? snippet.stop()
                : snippet.play(edit.number, file, rate, edit.file_start_s - CONTEXT_S, edit.file_end_s + CONTEXT_S)}
            >{snippet.playing === edit.number ? 'Stop' : 'Before'}<span class="visually-hidden"
              >&#32;edit {edit.number}</span
            ></LinkButton
          >
          <LinkButton onclick={() => onhear(edit.at_s, edit.at_s + edit.put_s)}
            >Hear<span class="visually-hidden">&#32;edit {edit.number}&#32;</span> at {exact(edit.at_s)}</LinkButton
          >
          <LinkButton onclick={() => onedit({ what: 'take-back', numbers: [edit.number] })}
            >Take back<span class="visually-hidden">&#32;edit {edit.number}</span></LinkButton
          >
        </li>
      {/each}
    </ol>
  {/if}
</DropSection>

<style>
  label {
    display: flex;
    flex-wrap: wrap;
    gap: 0 0.5ch;
    align-items: center;
  }
  ol {
    margin: 0;
    padding: 0;
    list-style: none;
    border-top: 1px solid var(--rule);
  }
  li {
    display: grid;
    grid-template-columns: 4ch 1fr auto auto auto;
    gap: var(--space-4);
    padding: var(--space-2) 0;
    border-bottom: 1px solid var(--rule);
  }
  .figure {
    font-family: var(--figures);
  }
</style>
