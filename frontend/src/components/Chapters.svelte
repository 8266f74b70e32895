<script lang="ts">
  // Where chapters begin in a recording: marked at the playhead, named, moved on the ribbon, and split into recordings.
  import type { ChapterMark, SplitAt } from '../lib/api';
  import { clock } from '../lib/format';
  import { chapterName } from '../lib/handles';
  import Button from './Button.svelte';
  import EditGroup from './EditGroup.svelte';
  import LinkButton from './LinkButton.svelte';
  interface Props {
    marks: ChapterMark[];
    playhead: number;
    duration: number;
    onadd: (at: number, title: string) => Promise<unknown>;
    onname: (chapter: string, title: string) => unknown;
    onremove: (chapter: string) => unknown;
    ongo: (at: number) => void;
    onsplit: (at: SplitAt[]) => unknown;
  }
  let { marks, playhead, duration, onadd, onname, onremove, ongo, onsplit }: Props = $props();
  const LONGEST = 120;
  /** Less than this is no part. */
  const LEAST_S = 0.5;
  let title = $state('');
  const inner = $derived(
    marks.filter(({ at_s }, place) => {
      const end = marks[place + 1]?.at_s ?? duration;
      return at_s >= LEAST_S && end - at_s >= LEAST_S;
    }),
  );
  /** One at the same place is there already. */
  const there = $derived(marks.some(({ at_s }) => Math.abs(at_s - playhead) < 0.01));
  /** While it plays one mark may follow another before the first is shown. */
  async function add() {
    if (there) return;
    const set = title;
    title = '';
    if ((await onadd(playhead, set)) === undefined) title ||= set;
  }
</script>

<EditGroup label="Chapter marks">
  <form
    class="line"
    onsubmit={(event) => {
      event.preventDefault();
      void add();
    }}
  >
    <input aria-label="Title of the chapter" placeholder="Title" maxlength={LONGEST} bind:value={title} />
    <Button disabled={there || playhead >= duration} onclick={() => void add()}>Mark at {clock(playhead, 2)}</Button>
  </form>
  {#if marks.length}
    <ul>
      {#each marks as mark, place (mark.id)}
        <li>
          <LinkButton onclick={() => ongo(mark.at_s)}
            >{clock(mark.at_s, 2)}<span class="visually-hidden">&#32;{chapterName(mark, place)}</span></LinkButton
          >
          <input
            aria-label={`Title of the chapter at ${clock(mark.at_s, 2)}`}
            placeholder={chapterName(mark, place)}
            maxlength={LONGEST}
            value={mark.title}
            onchange={(event) => onname(mark.id, event.currentTarget.value)}
          />
          <LinkButton onclick={() => onremove(mark.id)}
            >Remove<span class="visually-hidden">&#32;the mark {chapterName(mark, place)}</span></LinkButton
          >
        </li>
      {/each}
    </ul>
    <div class="line">
      <Button disabled={!inner.length} onclick={() => onsplit(inner.map(({ at_s, title }) => ({ at_s, title })))}
        >Split at the marks</Button
      >
      <span class="soft"
        >{inner.length
          ? `The recording ends at ${clock(inner[0]?.at_s ?? 0, 2)}; ${inner.length === 1 ? 'another' : `${inner.length} others`} behind it ${inner.length === 1 ? 'holds' : 'hold'} the rest, called by the titles.`
          : 'The first mark is where the recording begins; set another to split there.'}</span
      >
    </div>
  {:else}
    <p class="soft">Mark where chapters begin. Marks follow the edits, and are moved on the ribbon.</p>
  {/if}
</EditGroup>

<style>
  .soft {
    flex: 1 1 24ch;
  }
  li {
    display: grid;
    grid-template-columns: 8ch minmax(0, 1fr) auto;
    gap: var(--space-4);
    align-items: center;
    padding: var(--space-1) 0;
  }
  input {
    font-size: var(--type-plain);
    color: var(--ink);
    background: var(--sheet);
    border: 1px solid var(--soft);
    border-radius: 3px;
    padding: var(--space-1) var(--space-3);
    min-width: 0;
  }
</style>
