<script lang="ts">
  // Where words were read again, behind a mark or without one: what would be cut out, heard as it would be then, moved, left in.
  import type { Repeat } from '../lib/api';
  import { clock, counted, exact } from '../lib/format';
  import type { Group, Place } from '../lib/places';
  import type { Span } from '../lib/ribbon-view.svelte';
  import type { Snippet } from '../lib/snippet.svelte';
  import Button from './Button.svelte';
  import EditGroup from './EditGroup.svelte';
  import LinkButton from './LinkButton.svelte';
  interface Props {
    recordingId: string;
    /** What the sound that is shown is known by. */
    knownAs: string;
    repeats: Repeat[];
    groups: Group[];
    rate: number;
    selection: Span | undefined;
    snippet: Snippet;
    oncut: (spans: { start_s: number; end_s: number }[]) => unknown;
    /** Select a stretch on the ribbon. */
    onshow: (from: number, to: number) => void;
    onleave: (places: Place[], kind: string, reason: string) => unknown;
    onreturn: (places: Place[], kind: string) => unknown;
  }
  let { recordingId, knownAs, repeats, groups, rate, selection, snippet, oncut, onshow, onleave, onreturn }: Props =
    $props();

  const KINDS = ['mark', 'mark-set', 'repeated-words'] as const;
  interface Row {
    key: string;
    kind: (typeof KINDS)[number];
    place: Place;
    repeat: Repeat | undefined;
  }
  const LEFT = 'Left in as read';
  const CONTEXT_S = 2;
  const at = (seconds: number) => clock(seconds, 2);
  const long = (seconds: number) => exact(Math.round(seconds * 100) / 100);
  const rows = $derived.by(() => {
    const found: Row[] = [];
    for (const kind of KINDS)
      for (const place of groups.find((group) => group.key === kind)?.places ?? []) {
        const of = (one: Repeat) =>
          (kind === 'repeated-words' ? one.mark_s === null && one.begun_s : one.mark_s) === place.start_s;
        found.push({ key: `${knownAs} ${kind} ${place.start_s}`, kind, place, repeat: repeats.find(of) });
      }
    return found.sort((one, other) => one.place.start_s - other.place.start_s);
  });
  const open = $derived(rows.filter(({ place }) => !place.accepted));
  const left = $derived(rows.filter(({ place }) => place.accepted));
  /** What somebody chose instead of what was proposed. */
  let moved = $state<Record<string, { start_s: number; end_s: number }>>({});
  let wanted = $state<Record<string, boolean>>({});
  let shown = $state('');
  const cutOf = ({ key, repeat }: Row) => moved[key] ?? (repeat && { start_s: repeat.start_s, end_s: repeat.end_s });
  const wants = (row: Row) =>
    cutOf(row) !== undefined && (wanted[row.key] ?? (row.kind !== 'repeated-words' || row.key in moved));
  const chosen = $derived(open.filter(wants).flatMap((row) => cutOf(row) ?? []));
  const seconds = $derived(chosen.reduce((sum, one) => sum + one.end_s - one.start_s, 0));

  function hear(row: Row) {
    const cut = cutOf(row);
    if (!cut) return;
    if (snippet.playing === row.key) snippet.stop();
    else {
      const query = new URLSearchParams({ start_s: String(cut.start_s), end_s: String(cut.end_s) });
      const address = `/api/recordings/${recordingId}/cut-sound?${query.toString()}`;
      void snippet.play(row.key, address, rate, cut.start_s - CONTEXT_S, cut.start_s + CONTEXT_S);
    }
  }
  function show(row: Row) {
    const cut = cutOf(row) ?? row.place;
    shown = row.key;
    onshow(cut.start_s, cut.end_s);
  }
  /** Something else is selected. */
  const otherwise = ({ start_s, end_s }: { start_s: number; end_s: number }) =>
    selection && Math.abs(selection.from - start_s) + Math.abs(selection.to - end_s) > 0.01;
  function take(row: Row) {
    if (!selection) return;
    moved[row.key] = { start_s: selection.from, end_s: selection.to };
    wanted[row.key] = true;
  }
</script>

{#if rows.length}
  <EditGroup label="Read again">
    <ul>
      {#each open as row (row.key)}
        {@const cut = cutOf(row)}
        {@const name = `${row.kind === 'repeated-words' ? 'Read twice' : 'Mark'} at ${at(row.place.start_s)}`}
        <li>
          <label>
            <input
              type="checkbox"
              disabled={!cut}
              checked={wants(row)}
              onchange={(event) => (wanted[row.key] = event.currentTarget.checked)}
            />
            <span class="number">{row.place.number}</span>
            <span>{name}</span>
          </label>
          <span class="soft">
            {#if cut}{at(cut.start_s)} to {at(cut.end_s)} is cut out, {long(cut.end_s - cut.start_s)} s{#if row.key in moved},
                as selected{:else if row.repeat}: words from {at(row.repeat.begun_s)} on are read again from {at(
                  row.repeat.again_s,
                )} on{/if}.{:else}No words from before it are read again behind it. Select what is to be cut out.{/if}
          </span>
          <span class="acts">
            {#if cut}
              <LinkButton onclick={() => hear(row)}
                >{snippet.playing === row.key ? 'Stop' : 'Hear as cut'}<span class="visually-hidden">, {name}</span
                ></LinkButton
              >
            {/if}
            <LinkButton onclick={() => show(row)}>Show<span class="visually-hidden">, {name}</span></LinkButton>
            {#if shown === row.key && otherwise(cut ?? row.place)}
              <LinkButton onclick={() => take(row)}
                >Cut the selection instead<span class="visually-hidden">, {name}</span></LinkButton
              >
            {/if}
            <LinkButton onclick={() => onleave([row.place], row.kind, LEFT)}
              >Leave in<span class="visually-hidden">, {name}</span></LinkButton
            >
          </span>
        </li>
      {/each}
    </ul>
    {#if open.length}
      <div class="line">
        <Button strong disabled={!chosen.length} onclick={() => oncut(chosen)}
          >Cut out {chosen.length ? counted(chosen.length, 'place') : 'what is checked'}</Button
        >
        {#if chosen.length}<span class="soft">{long(seconds)} s in all</span>{/if}
      </div>
    {/if}
    {#each left as row (row.key)}
      <p class="soft line">
        {row.kind === 'repeated-words' ? 'Read twice' : 'Mark'} at {at(row.place.start_s)}: {row.place.accepted}
        <LinkButton onclick={() => onreturn([row.place], row.kind)}
          >Propose again<span class="visually-hidden"> at {at(row.place.start_s)}</span></LinkButton
        >
      </p>
    {/each}
  </EditGroup>
{/if}

<style>
  li {
    display: grid;
    gap: var(--space-1) var(--space-4);
    padding: var(--space-2) 0;
  }
  label,
  .line,
  .acts {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-1) var(--space-4);
    align-items: center;
  }
  .number {
    color: var(--near);
    font-family: var(--figures);
    font-weight: 600;
  }
</style>
